"""Archives from outside: what is in them is looked at only after its name and size were checked."""

import io
import tarfile
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import BinaryIO

from avocet.core.errors import InputError

SUFFIXES = (".zip", ".tar", ".tar.gz", ".tgz")
BLOCK = 1 << 20
MOST_ENTRIES = 500_000
LARGEST_ENTRY = 4 * 1024**3
LARGEST_TOTAL = 200 * 1024**3
MOST_SWELLING = 200
"""A file that unpacks to so many times its packed size is a trap; pictures hardly shrink at all."""

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
    return zipfile.is_zipfile(path) or tarfile.is_tarfile(path)


class Archive:
    """An open zip or tar archive. Made by `open_archive`.

    Attributes
    ----------
    entries : list of Entry
        The files in it, in the archive's order; folders are left out.
    faults : list of str
        Entries that are not looked at, and why.
    """

    def __init__(self, opened: zipfile.ZipFile | tarfile.TarFile, called: str) -> None:
        self._opened, self._called = opened, called
        self.entries: list[Entry] = []
        self.faults: list[str] = []
        self._places: dict[str, zipfile.ZipInfo | tarfile.TarInfo] = {}
        total = 0
        for place, name, size, packed, reason in _listed(opened):
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
        with path.open("wb") as written:
            self._copy(name, written, LARGEST_ENTRY)

    def _copy(self, name: str, into: BinaryIO, most: int) -> None:
        left = most
        try:
            with self._stream(name) as stream:
                while part := stream.read(min(BLOCK, left + 1)):
                    left -= len(part)
                    if left < 0:
                        raise InputError(f"{self._called}: {name} is larger than {most:,} bytes")
                    into.write(part)
        except (
            EOFError,
            zipfile.BadZipFile,
            tarfile.TarError,
            RuntimeError,
            ValueError,
            zlib.error,
        ) as error:
            raise InputError(f"{self._called}: {name} is damaged and cannot be unpacked: {error}") from None

    def _stream(self, name: str) -> BinaryIO:
        place = self._places[name]
        if isinstance(self._opened, zipfile.ZipFile):
            return self._opened.open(place)  # type: ignore[arg-type, return-value]
        return self._opened.extractfile(place)  # type: ignore[arg-type, return-value]


@contextmanager
def open_archive(path: Path, called: str | None = None) -> Iterator[Archive]:
    """Open a zip or tar archive to read from.

    Parameters
    ----------
    path : Path
    called : str, optional
        What to call it in messages.

    Raises
    ------
    InputError
        If it is no archive, is damaged, or would unpack beyond all measure.
    """
    name = called or path.name
    opened: zipfile.ZipFile | tarfile.TarFile
    try:
        opened = zipfile.ZipFile(path) if zipfile.is_zipfile(path) else tarfile.open(path)  # noqa: SIM115
    except FileNotFoundError:
        raise InputError(f"{name}: there is no such file") from None
    except (OSError, EOFError, zipfile.BadZipFile, tarfile.TarError):
        raise InputError(f"{name} is not a zip or tar archive that can be read") from None
    with opened:
        try:
            archive = Archive(opened, name)
        except (OSError, EOFError, tarfile.TarError) as error:
            raise InputError(f"{name} is damaged: {error}") from None
        yield archive


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


def _why_not(name: str, size: int, packed: int) -> str:
    """Why an entry is not looked at, or nothing."""
    plain = name.replace("\\", "/")
    parts = PurePosixPath(plain).parts
    if plain.startswith("/") or ".." in parts or (parts and ":" in parts[0]):
        return "points outside of the archive"
    if not parts or len(plain) > 500 or any(ord(letter) < 32 for letter in plain):
        return "is not a name that a file may have"
    if size > LARGEST_ENTRY:
        return f"would unpack to {size:,} bytes"
    if size > SWELLS_FROM and size > MOST_SWELLING * max(packed, 1):
        return f"would swell from {packed:,} to {size:,} bytes"
    return ""
