"""Archives from outside: what is in them is looked at only after its name and size were checked."""

import bz2
import gzip
import io
import lzma
import struct
import tarfile
import zipfile
import zlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import Any, BinaryIO

from avocet.core.errors import InputError
from avocet.readable import is_readable, readable

SUFFIXES = (".zip", ".tar", ".tar.gz", ".tgz")
BLOCK = 1 << 20
MOST_ENTRIES = 500_000
LARGEST_ENTRY = 4 * 1024**3
LARGEST_TOTAL = 200 * 1024**3
MOST_SWELLING = 200
"""A file that unpacks to so many times its packed size is a trap; pictures hardly shrink at all."""

DAMAGED = (
    OSError, EOFError, zipfile.BadZipFile, tarfile.TarError, RuntimeError, ValueError, IndexError, struct.error,
    zlib.error, lzma.LZMAError, OverflowError,
)  # fmt: skip
"""What Python's readers of archives raise on damaged ones; `NotImplementedError`, for a way of packing that
they do not know, is a `RuntimeError`."""

LONGEST_HEADER = 16_000_000
"""Bytes that are read of a tar in one go."""

SWELLS_FROM = 50_000_000
"""Small files may swell as they like."""


@dataclass(frozen=True)
class Entry:
    """A file in an archive: its name with forward slashes, its unpacked size in bytes."""

    name: str
    size: int


def is_archive(name: str) -> bool:
    """Whether a file's name says that it is an archive that can be opened.

    Examples
    --------
    >>> is_archive("belt.ZIP"), is_archive("belt.tar.gz"), is_archive("belt.jpg")
    (True, True, False)
    """
    return name.lower().endswith(SUFFIXES)


def can_be_opened(path: Path) -> bool:
    """Whether a file really is a zip or tar archive, from its first bytes."""
    if zipfile.is_zipfile(path):
        return True
    try:
        _open_tar(path, path.name).close()
    except DAMAGED:
        return False
    return True


class Archive:
    """An open zip or tar archive. Made by `open_archive`.

    Attributes
    ----------
    entries : list of Entry
        The files in it, in the archive's order; folders are left out.
    faults : list of str
        Entries that are not looked at, and why.
    """

    def __init__(
        self, opened: zipfile.ZipFile | tarfile.TarFile, called: str, go_on: Callable[[], None]
    ) -> None:
        self._opened, self._called, self._go_on = opened, called, go_on
        self.entries: list[Entry] = []
        self.faults: list[str] = []
        self._places: dict[str, zipfile.ZipInfo | tarfile.TarInfo] = {}
        total = 0
        for place, given, size, packed, reason in _listed(opened):
            go_on()
            # A name in another encoding is told with its strange bytes as escapes.
            name = given if is_readable(given) else _decoded(given)
            if len(self.entries) >= MOST_ENTRIES:
                raise InputError(f"{called} holds more than {MOST_ENTRIES:,} files")
            reason = reason or _why_not(name, size, packed)
            if reason:
                self.faults.append(f"{called}: {name!r} {reason}")
                continue
            total += size
            if total > LARGEST_TOTAL:
                raise InputError(f"{called} would unpack to more than {LARGEST_TOTAL:,} bytes")
            if name in self._places:
                self.faults.append(f"{called}: {name!r} is in it twice; the first is taken")
                continue
            self._places[name] = place
            self.entries.append(Entry(name, size))

    def read(self, name: str, most: int = LARGEST_ENTRY) -> bytes:
        """The bytes of an entry. Raises `InputError` if it is damaged or larger than ``most``."""
        held = io.BytesIO()
        self._copy(name, held, most)
        return held.getvalue()

    def save(self, name: str, path: Path) -> None:
        """Write an entry to a file. Raises `InputError` if it is damaged or larger than it says."""
        try:
            with path.open("wb") as written:
                self._copy(name, written, LARGEST_ENTRY)
        except OSError as error:
            raise InputError(f"{self._called}: {name} cannot be written here: {error.strerror}") from None

    def _copy(self, name: str, into: BinaryIO, most: int) -> None:
        left = most
        for part in self._parts(name, most):
            left -= len(part)
            if left < 0:
                raise InputError(f"{self._called}: {name} is larger than {most:,} bytes")
            # Outside of what reads: a full disk is no fault of the archive.
            into.write(part)

    def _parts(self, name: str, most: int) -> Iterator[bytes]:
        """What an entry holds, piece by piece, and at most one byte more than ``most``."""
        with _said(f"{self._called}: {name} is damaged and cannot be unpacked"), self._stream(name) as stream:
            left = most + 1
            self._go_on()
            while left and (part := stream.read(min(BLOCK, left))):
                left -= len(part)
                yield part
                self._go_on()

    def _stream(self, name: str) -> BinaryIO:
        place = self._places[name]
        if isinstance(self._opened, zipfile.ZipFile):
            return self._opened.open(place)  # type: ignore[arg-type, return-value]
        return self._opened.extractfile(place)  # type: ignore[arg-type, return-value]


@contextmanager
def _said(what: str) -> Iterator[None]:
    """Say in one sentence whatever a reader of archives raises on a damaged one; what is said already stays."""
    try:
        yield
    except InputError:
        raise
    except DAMAGED as error:
        raise InputError(f"{what}: {error}" if str(error) else what) from None


@contextmanager
def open_archive(
    path: Path, called: str | None = None, go_on: Callable[[], None] = lambda: None
) -> Iterator[Archive]:
    """Open a zip or tar archive to read from.

    Parameters
    ----------
    path : Path
    called : str, optional
        What to call it in messages.
    go_on : callable
        Called again and again while it is read, to raise where that should stop.

    Raises
    ------
    InputError
        If it is no archive, is damaged, or would unpack beyond all measure.
    """
    name = called or path.name
    if not path.is_file():
        raise InputError(f"{name}: there is no such file")
    with _said(f"{name} is not a zip or tar archive that can be read"):
        opened = zipfile.ZipFile(path) if zipfile.is_zipfile(path) else _open_tar(path, name)
    with opened:
        with _said(f"{name} is damaged"):
            archive = Archive(opened, name, go_on)
        yield archive


class _Measured(io.RawIOBase):
    """What comes out of a packed tar, as long as it stays in proportion to what went in.

    A tar has no list of what is in it, so that thirty kilobytes may swell to gigabytes before
    anything is known of them, and a header may claim to be as long as it likes.
    """

    def __init__(self, stream: BinaryIO, most: int, called: str) -> None:
        self._stream, self._most, self._called = stream, most, called

    def read(self, size: int = -1) -> bytes:
        if size > LONGEST_HEADER or size < 0:
            raise InputError(f"{self._called} has a header of {size:,} bytes, which no archive needs")
        content = self._stream.read(size)
        self._check()
        return content

    def seek(self, place: int, whence: int = io.SEEK_SET) -> int:
        if whence == io.SEEK_SET and place > self._most:
            self._refuse()
        found = self._stream.seek(place, whence)
        self._check()
        return found

    def tell(self) -> int:
        return self._stream.tell()

    def close(self) -> None:
        self._stream.close()
        super().close()

    def _check(self) -> None:
        if self._stream.tell() > self._most:
            self._refuse()

    def _refuse(self) -> None:
        raise InputError(f"{self._called} would swell to more than {self._most:,} bytes")


def _open_tar(path: Path, called: str) -> tarfile.TarFile:
    """A tar, packed or not, read through `_Measured`."""
    with path.open("rb") as file:
        head = file.read(6)
    openers: tuple[tuple[bytes, Any], ...] = (
        (b"\x1f\x8b", gzip.open),
        (b"BZh", bz2.open),
        (b"\xfd7zXZ\x00", lzma.open),
    )
    unpacked = next((opener for mark, opener in openers if head.startswith(mark)), None)
    stream: BinaryIO = unpacked(path, "rb") if unpacked else path.open("rb")
    most = SWELLS_FROM + MOST_SWELLING * path.stat().st_size
    try:
        return tarfile.open(fileobj=_Measured(stream, most, called), mode="r:")  # type: ignore[call-overload, no-any-return]
    except BaseException:
        stream.close()
        raise


def _listed(
    opened: zipfile.ZipFile | tarfile.TarFile,
) -> Iterator[tuple[zipfile.ZipInfo | tarfile.TarInfo, str, int, int, str]]:
    """Every file: where it is, its name, its sizes unpacked and packed, and what is wrong with its kind."""
    if isinstance(opened, zipfile.ZipFile):
        for each in opened.infolist():
            if not each.is_dir():
                reason = "is locked with a password" if each.flag_bits & 1 else ""
                link = (each.external_attr >> 28) == 0xA
                yield each, each.filename, each.file_size, each.compress_size, "is a link" if link else reason
    else:
        for member in opened:
            if not member.isdir():
                yield member, member.name, member.size, member.size, "" if member.isfile() else "is no file"


def _decoded(name: str) -> str:
    """The name with bytes that are no UTF-8 as escapes; what else cannot be shown stays and is refused."""
    return "".join(readable(letter) if "\udc80" <= letter <= "\udcff" else letter for letter in name)


def _why_not(name: str, size: int, packed: int) -> str:
    """Why an entry is not looked at, or nothing."""
    plain = name.replace("\\", "/")
    parts = PurePosixPath(plain).parts
    if plain.startswith("/") or ".." in parts or (parts and ":" in parts[0]):
        return "points outside of the archive"
    if not parts or len(plain) > 500 or not is_readable(plain):
        return "is not a name that a file may have"
    if size > LARGEST_ENTRY:
        return f"would unpack to {size:,} bytes"
    if size > SWELLS_FROM and size > MOST_SWELLING * max(packed, 1):
        return f"would swell from {packed:,} to {size:,} bytes"
    return ""
