"""Objects of a clip counted over lines and inside of regions that a person draws."""

import csv
import io
from collections.abc import Sequence
from pathlib import Path
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from avocet.core.errors import InputError
from avocet.core.tracks.crossing import crossings, inside_by_frame, stays
from avocet.core.tracks.linking import Track
from avocet.faults import first_fault
from avocet.work.use.found import ClipPlace, Found

MOST_SHAPES = 20


class Shape(BaseModel):
    """A line or a region that objects are counted by.

    Attributes
    ----------
    kind : {'line', 'region'}
    name : str
    points : list of (float, float)
        In parts of the picture's width and height: the two ends of a line, the corners of a region.
    sides : (str, str)
        What is on the left of the line, looking from its first end to its second, and what on the right.
    """

    model_config = ConfigDict(extra="forbid")

    kind: Literal["line", "region"]
    name: str = Field("", max_length=60)
    points: list[tuple[float, float]] = Field(min_length=2, max_length=100)
    sides: tuple[str, str] = ("one side", "the other side")

    @model_validator(mode="after")
    def _fits(self) -> "Shape":
        if any(not (0 <= value <= 1) for point in self.points for value in point):
            raise ValueError("a point lies outside of the picture")
        if any(len(each) > 60 for each in self.sides):
            raise ValueError("a side has a name of more than 60 letters")
        if self.kind == "line" and (len(self.points) != 2 or self.points[0] == self.points[1]):
            raise ValueError("a line has two ends in different places")
        if self.kind == "region" and len(self.points) < 3:
            raise ValueError("a region has three corners or more")
        return self


def shape_of(kind: Literal["line", "region"], text: str) -> Shape:
    """A shape as it is written on the command line.

    Parameters
    ----------
    kind : {'line', 'region'}
    text : str
        A name, a colon, and points as ``x,y`` in parts of width and height. For a line a colon and the names of
        its two sides, parted by ``|``, may follow.

    Raises
    ------
    InputError
        If it is none.

    Examples
    --------
    >>> shape_of("line", "gate: 0.5,0 0.5,1: oven | packing").sides
    ('oven', 'packing')
    """
    name, _, rest = text.partition(":")
    points, _, sides = rest.partition(":")
    corners = points_of(points, text)
    if len(corners) < (2 if kind == "line" else 3):
        raise InputError(
            f"{text!r}: a {kind} needs {'two' if kind == 'line' else 'three'} points, as in 'name: 0,0.5 1,0.5'"
        )
    fields: dict[str, Any] = {"kind": kind, "name": name.strip(), "points": corners}
    if sides.strip():
        fields["sides"] = [each.strip() for each in sides.split("|")]
    try:
        return Shape.model_validate(fields)
    except ValidationError as error:
        said = first_fault(error)["msg"].removeprefix("Value error, ")
        raise InputError(f"{text!r} is no {kind}: {said}") from None


def points_of(written: str, within: str = "") -> list[tuple[float, float]]:
    """Points written as ``x,y x,y``. Raises `InputError` where they are none.

    Examples
    --------
    >>> points_of("0,0 1,0 0.5,1")
    [(0.0, 0.0), (1.0, 0.0), (0.5, 1.0)]
    """
    made = []
    for each in written.split():
        try:
            x, y = (float(value) for value in each.split(","))
        except ValueError:
            raise InputError(
                f"{within or written!r}: {each!r} is no point; points are x,y in parts of width and height"
            ) from None
        made.append((x, y))
    return made


def count_on(
    clip: ClipPlace, found: Found, tracks_file: Path, shapes: Sequence[Shape]
) -> list[dict[str, Any]]:
    """What each shape counts on a clip.

    Parameters
    ----------
    clip : ClipPlace
        One of `clips_of` what was found.
    found : Found
    tracks_file : Path
        The objects that were linked.
    shapes : sequence of Shape

    Returns
    -------
    list of dict
        Of a line ``forward`` and ``back`` by class and every crossing with object, class, frame and seconds;
        of a region how many objects of each class were inside, ``most`` at once and where, and every stay.
    """
    number, first, frames = clip
    tracks, numbers = _tracks(tracks_file, number)
    at = found.looked[first]
    return [
        _over_line(each, tracks, numbers, found, first, at.width, at.height)
        if each.kind == "line"
        else _inside_region(each, tracks, numbers, found, first, frames, at.width, at.height)
        for each in shapes
    ]


def _tracks(path: Path, clip: int) -> tuple[list[Track], NDArray[np.int64]]:
    with np.load(path, allow_pickle=False) as kept:
        mine = kept["clip"] == clip
        columns = {name: kept[name][mine] for name in ("object", "kind", "place", "box", "score", "told")}
    numbers, starts = np.unique(columns["object"], return_index=True)
    ends = [*starts[1:], len(columns["object"])]
    tracks = [
        Track(
            int(columns["kind"][start]),
            columns["place"][start:end],
            columns["box"][start:end],
            columns["score"][start:end],
            columns["told"][start:end],
        )
        for start, end in zip(starts, ends, strict=True)
    ]
    return tracks, numbers


def _over_line(
    shape: Shape,
    tracks: list[Track],
    numbers: NDArray[np.int64],
    found: Found,
    first: int,
    width: int,
    height: int,
) -> dict[str, Any]:
    over = crossings(tracks, np.array(shape.points) * [width, height])
    listed = [
        {
            "object": int(numbers[each.track]),
            "class": found.classes[tracks[each.track].kind],
            "place": first + each.frame,
            "frame": found.looked[first + each.frame].frame,
            "seconds": found.looked[first + each.frame].seconds,
            "forward": each.forward,
        }
        for each in over
    ]
    counts = {
        way: {
            name: sum(each["class"] == name and each["forward"] == forward for each in listed)
            for name in found.classes
        }
        for way, forward in (("forward", True), ("back", False))
    }
    return {"shape": shape.model_dump(), "crossings": listed, **counts}


def _inside_region(
    shape: Shape,
    tracks: list[Track],
    numbers: NDArray[np.int64],
    found: Found,
    first: int,
    frames: int,
    width: int,
    height: int,
) -> dict[str, Any]:
    inside = stays(tracks, np.array(shape.points) * [width, height])
    at_once = inside_by_frame(inside, frames)
    most = int(at_once.argmax()) if frames else 0
    seen = {each.track for each in inside}
    return {
        "shape": shape.model_dump(),
        "objects": {
            name: sum(found.classes[tracks[each].kind] == name for each in seen) for name in found.classes
        },
        "most": int(at_once[most]) if frames else 0,
        "most_place": first + most,
        "most_seconds": found.looked[first + most].seconds if frames else 0.0,
        "stays": [
            {
                "object": int(numbers[each.track]),
                "class": found.classes[tracks[each.track].kind],
                "place": first + each.first,
                "first_seconds": found.looked[first + each.first].seconds,
                "last_seconds": found.looked[first + each.last].seconds,
            }
            for each in inside
        ],
    }


def counts_as_csv(counted: list[dict[str, Any]], clip: str, heading: bool = True) -> str:
    """Every crossing and every stay on a clip, a line each."""
    made = io.StringIO()
    writer = csv.writer(made)
    if heading:
        names = ["clip", "name", "kind", "object", "class", "seconds", "until_seconds", "from", "to"]
        writer.writerow(names)
    for each in counted:
        shape = each["shape"]
        for row in each.get("crossings", ()):
            sides = shape["sides"] if row["forward"] else shape["sides"][::-1]
            place = [clip, shape["name"], "line", row["object"], row["class"], row["seconds"], ""]
            writer.writerow([*place, *sides])
        for row in each.get("stays", ()):
            times = [row["first_seconds"], row["last_seconds"]]
            place = [clip, shape["name"], "region", row["object"], row["class"]]
            writer.writerow([*place, *times, "", ""])
    return made.getvalue()
