"""In which line of a file something stands, for messages."""

import json
import re
from collections.abc import Iterable

_SPACE = re.compile(r"[\s,:]*")


def lines_of_entries(text: str, key: str, wanted: Iterable[int]) -> dict[int, int]:
    """The lines in which entries of a list begin, in the object at the top of a JSON text.

    Parameters
    ----------
    text : str
        Valid JSON with an object at its top.
    key : str
        Of the list.
    wanted : iterable of int
        Places in the list, counted from 0.

    Returns
    -------
    dict of int to int
        Line, counted from 1, by place; places that are not there are left out.

    Examples
    --------
    >>> lines_of_entries('{"a": 1,\\n "boxes": [{},\\n  {}]}', "boxes", [1])
    {1: 3}
    """
    left = set(wanted)
    found: dict[int, int] = {}
    decoder = json.JSONDecoder()
    place = _past(text, text.index("{") + 1)
    while left and place < len(text) and text[place] == '"':
        name, place = decoder.raw_decode(text, place)
        place = _past(text, place)
        if name != key or text[place] != "[":
            _, place = decoder.raw_decode(text, place)
            place = _past(text, place)
            continue
        place = _past(text, place + 1)
        number, line, counted = 0, 1, 0
        while left and text[place] != "]":
            line, counted = line + text.count("\n", counted, place), place
            if number in left:
                left.discard(number)
                found[number] = line
            _, place = decoder.raw_decode(text, place)
            place = _past(text, place)
            number += 1
        return found
    return found


def lines_of_tags(content: bytes, tag: str) -> list[int]:
    """In which line each tag of that name begins, in one pass over an XML file.

    Examples
    --------
    >>> lines_of_tags(b"<a>\\n<object/>\\n<object>", "object")
    [2, 3]
    """
    found, line, counted = [], 1, 0
    for match in re.finditer(rf"<{tag}[\s/>]".encode(), content):
        line, counted = line + content.count(b"\n", counted, match.start()), match.start()
        found.append(line)
    return found


def _past(text: str, place: int) -> int:
    found = _SPACE.match(text, place)
    return found.end() if found else place
