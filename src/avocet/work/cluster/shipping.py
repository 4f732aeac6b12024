"""What travels to a worker: the model, and files that it may not see."""

import shutil
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from avocet.core.raw.fusion import Method
from avocet.detector.model.finder import Finder
from avocet.work.cluster.places import worker_place
from avocet.work.models.bundle_set import Bundles
from avocet.work.models.opening import open_bundles


@dataclass(frozen=True)
class ShippedModel:
    """The bundles behind a model as bytes; a worker writes them down for as long as it reads them."""

    bundles: tuple[bytes, ...]
    weights: tuple[float, ...]
    overlap_limit: float
    method: Method

    @classmethod
    def of(cls, bundles: Bundles) -> "ShippedModel":
        """The files read. Raises `OSError` where one is gone."""
        content = tuple(path.read_bytes() for path in bundles.paths)
        return cls(content, bundles.weights, bundles.overlap_limit, bundles.method)

    def opened(self) -> Finder:
        """What answers with it."""
        place = worker_place()
        try:
            paths = []
            for number, content in enumerate(self.bundles):
                paths.append(place / f"{number}.zip")
                paths[-1].write_bytes(content)
            return open_bundles(Bundles(tuple(paths), self.weights, self.overlap_limit, self.method))
        finally:
            shutil.rmtree(place, ignore_errors=True)


@dataclass(frozen=True)
class ShippedFile:
    """A file by its path where both machines see it, or with its content.

    Attributes
    ----------
    path : str
    size : int
    changed : int
        Nanoseconds: another file under the same path is another file.
    content : bytes, optional
    """

    path: str
    size: int
    changed: int
    content: bytes | None = None

    @classmethod
    def of(cls, path: Path) -> "ShippedFile":
        """Named only. Of what cannot be read the worker says so."""
        try:
            about = path.stat()
        except OSError:
            return cls(str(path.resolve()), -1, 0)
        return cls(str(path.resolve()), about.st_size, about.st_mtime_ns)

    def with_content(self) -> "ShippedFile":
        """The same with its bytes."""
        try:
            return ShippedFile(self.path, self.size, self.changed, Path(self.path).read_bytes())
        except OSError:
            return self

    def is_here(self) -> bool:
        """Whether this machine sees the very file, or was sent its bytes."""
        if self.content is not None or self.size < 0:
            return True
        try:
            about = Path(self.path).stat()
        except OSError:
            return False
        return (about.st_size, about.st_mtime_ns) == (self.size, self.changed)


class Unpacked:
    """Files as paths: where they lie, or where their bytes were put for now."""

    def __init__(self) -> None:
        self._place: Path | None = None
        self._count = 0

    def path(self, file: ShippedFile) -> Path:
        """Where it can be read."""
        if file.content is None:
            return Path(file.path)
        if self._place is None:
            self._place = worker_place()
        self._count += 1
        made = self._place / f"{self._count}{Path(file.path).suffix}"
        made.write_bytes(file.content)
        return made

    def close(self) -> None:
        """Remove what was put down."""
        if self._place is not None:
            shutil.rmtree(self._place, ignore_errors=True)
            self._place = None


def all_here(files: Sequence[ShippedFile]) -> bool:
    """Whether each of some files can be read on this machine."""
    return all(each.is_here() for each in files)
