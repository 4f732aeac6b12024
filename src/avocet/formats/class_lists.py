"""Lists of class names beside annotation files that only number them: text, one a line, or YAML."""

import re
from collections.abc import Iterable, Sequence
from pathlib import PurePosixPath
from typing import Any

import yaml

from avocet.core.errors import InputError
from avocet.formats.files import LabelFiles

NAMES = "names.txt"
"""What such a list is called where nothing else is wanted."""

LARGEST_LIST = 200_000
"""Characters; as many as can be pasted."""
COMMENT = "#"
ESCAPED = re.compile(r"\\+#")


def listed_classes(files: LabelFiles, others: Sequence[str]) -> tuple[list[str], list[str]]:
    """The class names in the list beside annotation files, counted from 0.

    The list is a file called ``names.txt`` or ``classes.txt``; else one that ends with ``.names``; else the
    ``names`` of a YAML file, as a list or under their numbers; else another text file. Several of one kind
    have to say the same. Lines that begin with ``#`` are comments.

    Parameters
    ----------
    files : LabelFiles
    others : sequence of str
        Text files that hold no boxes, by name.

    Returns
    -------
    class_names : list of str
    unused : list of str
        Which of ``others`` are no list of classes after all.

    Raises
    ------
    InputError
        If there is no list, lists differ, or a name is missing or there twice.
    """
    called = [name for name in others if PurePosixPath(name).stem.lower() in ("names", "classes")]
    by_suffix = {
        suffix: [name for name in files.names if name.lower().endswith(suffix)]
        for suffix in (".names", ".yaml", ".yml")
    }
    in_yaml = {
        name: found
        for name in by_suffix[".yaml"] + by_suffix[".yml"]
        if (found := _in_yaml(files, name)) is not None
    }
    for kind in (called, by_suffix[".names"], list(in_yaml), others):
        lists = {name: in_yaml[name] if name in in_yaml else _lines(files, name) for name in kind}
        if not lists:
            continue
        first = next(iter(lists))
        for name, found in lists.items():
            if found != lists[first]:
                raise InputError(
                    f"{files.called}: {first} and {name} list different classes; keep the one that is meant, "
                    f"or call it {NAMES}"
                )
        return lists[first], [name for name in others if name not in lists]
    raise InputError(
        f"{files.called} holds no text file with class names; centre-text needs one, such as {NAMES}"
    )


def list_of_classes(names: Sequence[str]) -> str:
    """Class names as the text of a list.

    Examples
    --------
    >>> list_of_classes(["roll", "#2"])
    'roll\\n\\\\#2\\n'
    """
    return "".join(f"{_escaped(name)}\n" for name in names)


def _escaped(name: str) -> str:
    # So that it does not read as a comment.
    return f"\\{name}" if name.startswith(COMMENT) or ESCAPED.match(name) else name


def _lines(files: LabelFiles, name: str) -> list[str]:
    lines = [line.strip() for line in _text(files, name).splitlines()]
    while lines and not lines[-1]:
        lines.pop()
    return _named(
        (f"{name}, line {number}", line[1:] if ESCAPED.match(line) else line)
        for number, line in enumerate(lines, start=1)
        if not line.startswith(COMMENT)
    )


def _in_yaml(files: LabelFiles, name: str) -> list[str] | None:
    """The classes that a YAML file names, or None where it names none."""
    try:
        content = yaml.load(_text(files, name), _AsWritten)
    except yaml.MarkedYAMLError as error:
        line = error.problem_mark.line + 1 if error.problem_mark else 1
        raise InputError(f"{name}, line {line} is not YAML: {error.problem}") from None
    except (yaml.YAMLError, RecursionError, ValueError) as error:
        raise InputError(
            f"{name} is not YAML that can be read: {' '.join(str(error).split())[:200]}"
        ) from None
    found = content.get("names") if isinstance(content, dict) else None
    if found is None:
        return None
    if isinstance(found, dict):
        if set(found) != set(map(str, range(len(found)))):
            raise InputError(f"{name}: its names are not numbered from 0 on")
        found = [found[str(number)] for number in range(len(found))]
    if not isinstance(found, list) or not all(isinstance(each, str) for each in found):
        raise InputError(f"{name}: its names are neither a list nor numbered")
    return _named((f"{name}, class {number}", each.strip()) for number, each in enumerate(found))


class _AsWritten(yaml.BaseLoader):
    """Reads every value as the text that it is written as, and follows no aliases: they swell without end."""

    def compose_node(self, parent: Any, index: Any) -> Any:
        if self.check_event(yaml.AliasEvent):
            mark = self.peek_event().start_mark  # type: ignore[no-untyped-call]
            raise yaml.MarkedYAMLError(problem="it uses an alias", problem_mark=mark)
        return super().compose_node(parent, index)


def _text(files: LabelFiles, name: str) -> str:
    text = files.text(name)
    if len(text) > LARGEST_LIST:
        raise InputError(
            f"{name} has {len(text):,} characters; a list of classes has at most {LARGEST_LIST:,}"
        )
    return text


def _named(places: Iterable[tuple[str, str]]) -> list[str]:
    """The names of classes, each with where it stands. Raises `InputError` for one that is empty or there twice."""
    names: dict[str, None] = {}
    for where, name in places:
        if not name:
            raise InputError(f"{where}: a class has no name")
        if name in names:
            raise InputError(f"{where}: the class {name!r} is there twice")
        names[name] = None
    return list(names)
