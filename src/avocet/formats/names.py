"""Finding pictures by the names that annotation files give them."""

import unicodedata
from collections import Counter, defaultdict
from collections.abc import Iterable, Sequence
from pathlib import PurePosixPath
from typing import Generic, TypeVar

Item = TypeVar("Item")


class NameIndex(Generic[Item]):
    """Things by name: found by the whole name, without folders, or without suffix.

    Parameters
    ----------
    named : iterable of (name, item)

    Examples
    --------
    >>> index = NameIndex([("day/a.jpg", 1), ("night/a.jpg", 2), ("b.jpg", 3)])
    >>> index.called("day/a.jpg"), index.called("a.jpg"), index.called("b"), index.called("c.jpg")
    ([1], [1, 2], [3], [])
    """

    def __init__(self, named: Iterable[tuple[str, Item]]) -> None:
        self._items: dict[str, list[tuple[str, Item]]] = defaultdict(list)
        for name, item in named:
            whole = plain_name(name)
            for key in _keys(whole):
                self._items[key].append((whole, item))

    def called(self, name: str) -> list[Item]:
        """All items that the name may mean: the exact one, or several that it cannot tell apart."""
        for key in _keys(plain_name(name)):
            found = self._items.get(key)
            if found:
                return [item for whole, item in found if whole == key] or [item for _, item in found]
        return []


def told_apart(named: Sequence[tuple[str, str]]) -> list[str]:
    """Names that are each there once: where several share one, with the beginning of each one's hash before it.

    Parameters
    ----------
    named : sequence of (name, content hash)

    Examples
    --------
    >>> told_apart([("a.jpg", "00112233ff"), ("b.jpg", "44556677ff"), ("day/a.jpg", "8899"), ("b.jpg", "aabbccddee")])
    ['a.jpg', '44556677-b.jpg', 'day/a.jpg', 'aabbccdd-b.jpg']
    """
    counts = Counter(name for name, _ in named)
    distinct = []
    for name, digest in named:
        folder, _, last = name.rpartition("/")
        own = f"{digest[:8]}-{last}" if counts[name] > 1 else last
        distinct.append(f"{folder}/{own}" if folder else own)
    return distinct


def plain_name(name: str) -> str:
    """Names compare equal however an accent is written and whichever slash is used.

    Examples
    --------
    >>> plain_name("day\\\\a.jpg")
    'day/a.jpg'
    """
    return unicodedata.normalize("NFC", name.replace("\\", "/"))


def _keys(name: str) -> tuple[str, ...]:
    path = PurePosixPath(name)
    bare = path.with_suffix("").as_posix() if path.name else name
    return tuple(dict.fromkeys((name, path.name, bare, path.stem)))
