"""Which name and which place each input of a run has, also when it goes on after more inputs have come or some have gone."""

import json
from collections import defaultdict, deque
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from avocet.core.errors import InputError
from avocet.files import write_text
from avocet.work.use.running.course import Input

INPUTS = "inputs.json"


def known_inputs(inputs: Sequence[Input], before: Sequence[Input] = ()) -> list[Input]:
    """All inputs of a run in the order of their places, each with a name of its own: the record tells them apart by it.

    Those of an earlier attempt keep name and place, also where they are not there any more; the others follow.

    Parameters
    ----------
    inputs : sequence of Input
    before : sequence of Input
        What this gave for the earlier attempt.

    Returns
    -------
    list of Input

    Examples
    --------
    >>> b, d = Input(Path("/x/b.jpg"), "b.jpg"), Input(Path("/x/d.jpg"), "d.jpg")
    >>> a, other = Input(Path("/x/a.jpg"), "a.jpg"), Input(Path("/y/b.jpg"), "b.jpg")
    >>> [each.name for each in known_inputs([a, b, other, d], [b, d])]
    ['b.jpg', 'd.jpg', 'a.jpg', 'b-2.jpg']
    """
    again: dict[Path, deque[Input]] = defaultdict(deque)
    for each in before:
        again[each.path.absolute()].append(each)
    taken = {each.name for each in before}
    made = list(before)
    for each in inputs:
        same = again[each.path.absolute()]
        if same:
            same.popleft()
            continue
        name, number = each.name, 2
        while name in taken:
            own = Path(each.name)
            name, number = own.with_name(f"{own.stem}-{number}{own.suffix}").as_posix(), number + 1
        taken.add(name)
        made.append(replace(each, name=name))
    return made


def read_known(out: Path) -> list[Input]:
    """The inputs that a run's folder tells of; none where an earlier version made it.

    Raises
    ------
    InputError
        If what it tells is damaged.
    """
    try:
        told = json.loads((out / INPUTS).read_text(encoding="utf-8"))
        return [Input(Path(path), str(name), *white) for path, name, *white in told]
    except FileNotFoundError:
        return []
    except (OSError, ValueError, TypeError) as error:
        raise InputError(f"{out / INPUTS} cannot be read: {error}") from None


def write_known(inputs: Sequence[Input], out: Path) -> None:
    """Keep names, places and whites for whoever goes on with the run, or looks at its results."""
    told = [
        [str(each.path.absolute()), each.name, *([] if each.white is None else [each.white])]
        for each in inputs
    ]
    write_text(out / INPUTS, json.dumps(told, ensure_ascii=False, separators=(",", ":")))
