"""The files of one import: a file, a folder or an archive of annotation files."""

import codecs
from collections.abc import Callable, Mapping
from pathlib import Path

from avocet.archives import Archive
from avocet.core.errors import InputError
from avocet.readable import readable

LARGEST_FILE = 2_000_000_000
OF_CLASSES = frozenset({".names", ".yaml", ".yml"})
"""What lists of classes end with, beside annotation files that only number them."""

SUFFIXES = frozenset({".json", ".jsonl", ".ndjson", ".xml", ".csv", ".tsv", ".txt"}) | OF_CLASSES
"""What annotation files, and lists of classes beside them, end with."""

OF_ONE_PICTURE = frozenset({".xml", ".txt"})
"""Of these, one is written for each picture."""

PARTS_FILE = "parts.csv"
"""Beside annotations of any format: which part of the split each picture is in."""


class LabelFiles:
    """Annotation files by name, read when asked for.

    Attributes
    ----------
    names : list of str
        In alphabetical order, with forward slashes. Only what can be an annotation file.
    called : str
        What to call all of them together in messages.
    has_parts : bool
        Whether a file beside them says each picture's part.
    """

    def __init__(self, readers: Mapping[str, Callable[[], bytes]], called: str) -> None:
        self._readers = {name: read for name, read in readers.items() if _may_hold_labels(name)}
        self.has_parts = PARTS_FILE in self._readers
        self.names = sorted(name for name in self._readers if name != PARTS_FILE)
        self.called = called

    @classmethod
    def of_path(cls, path: Path, called: str | None = None) -> "LabelFiles":
        """A file, or all annotation files below a folder. Raises `InputError` if there is none."""
        if path.is_dir():
            found = [each for each in path.rglob("*") if each.is_file()]
            return cls.of_paths(
                {readable(each.relative_to(path).as_posix()): each for each in found}, path.name
            )
        return cls.of_paths({called or path.name: path}, called or path.name)

    @classmethod
    def of_paths(cls, paths: Mapping[str, Path], called: str) -> "LabelFiles":
        """Files by the names they are to be called."""
        return cls({name: _reader(path, name) for name, path in paths.items()}, called)

    @classmethod
    def of_archive(cls, archive: Archive, called: str) -> "LabelFiles":
        """The annotation files of an open archive."""
        readers = {entry.name: _unpacker(archive, entry.name) for entry in archive.entries}
        return cls(readers, called)

    def read(self, name: str) -> bytes:
        """The bytes of a file. Raises `InputError`."""
        return self._readers[name]()

    def text(self, name: str) -> str:
        """The text of a file in UTF-8, or in UTF-16 with a byte order mark. Raises `InputError`."""
        return decoded(self.read(name), name)


def decoded(content: bytes, name: str) -> str:
    """Bytes as text.

    Raises
    ------
    InputError
        If they are in another encoding than UTF-8 or UTF-16 with a byte order mark.

    Examples
    --------
    >>> decoded(b"br\\xc3\\xb6tchen", "names.txt")
    'brötchen'
    """
    try:
        if content.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
            return content.decode("utf-16")
        return content.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = content[: error.start].count(b"\n") + 1
        raise InputError(
            f"{name} is not text in UTF-8: byte 0x{content[error.start]:02X} in line {line}. Save it as UTF-8."
        ) from None


def _may_hold_labels(name: str) -> bool:
    *folders, file = name.split("/")
    suffix = Path(name).suffix.lower()
    # What lies in hidden folders, and what some systems put beside every file, is nobody's labels; but a
    # picture may have a name that begins with a dot, and so has the file that belongs to it.
    foreign = any(part.startswith(".") or part == "__MACOSX" for part in folders) or file.startswith("._")
    hidden = file.startswith(".") and suffix not in OF_ONE_PICTURE
    return not foreign and not hidden and suffix in SUFFIXES


def _reader(path: Path, name: str) -> Callable[[], bytes]:
    def read() -> bytes:
        try:
            if path.stat().st_size > LARGEST_FILE:
                raise InputError(f"{name} is larger than {LARGEST_FILE:,} bytes")
            return path.read_bytes()
        except FileNotFoundError:
            raise InputError(f"{path}: there is no such file") from None
        except OSError as error:
            raise InputError(f"{path} cannot be read: {error.strerror}") from None

    return read


def _unpacker(archive: Archive, name: str) -> Callable[[], bytes]:
    return lambda: archive.read(name, LARGEST_FILE)
