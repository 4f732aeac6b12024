"""The neutral record that every annotation format is read into and written from."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from avocet.readable import all_readable, is_readable, readable, readable_lines

OCCLUDED, CUT_OFF, IGNORE = "occluded", "cut off", "ignore"
"""Attributes that every project has, and that some formats have words of their own for."""


DECIMALS = 6
"""Corners are kept to so many decimals of a pixel."""


@dataclass(frozen=True, slots=True)
class RecordedBox:
    """One labelled box.

    Attributes
    ----------
    label : int
        Index into the record's class names.
    corners : tuple of float
        ``x1, y1, x2, y2`` in pixels of the original picture.
    crowd : bool
        A region of many objects that nobody drew one by one.
    attributes : dict
        Only what holds: a flag that is not set is not there.
    track : int or None
        Number of the object through the frames of a clip.
    area : float or None
        In square pixels, of the object's outline, where the file gives one.
    origin : str
        Where the box comes from, where the file says so: `hand`, `carried`, `imported`, or a model.
    """

    label: int
    corners: tuple[float, float, float, float]
    crowd: bool = False
    attributes: dict[str, Any] = field(default_factory=dict)
    track: int | None = None
    area: float | None = None
    origin: str = field(default="", compare=False)

    def __post_init__(self) -> None:
        if self.attributes:
            object.__setattr__(self, "attributes", all_readable(self.attributes))


@dataclass(frozen=True, slots=True)
class RecordedPicture:
    """One picture and its boxes. The size is 0 where the file does not say.

    ``left_out`` holds what is wrong with each box that cannot be used: a picture of which all are left
    out says nothing, which is not the same as that there is nothing on it.
    """

    name: str
    width: int
    height: int
    boxes: list[RecordedBox]
    left_out: list[str] = field(default_factory=list, compare=False)
    cut: list[float] = field(default_factory=list, compare=False)
    """By how many pixels each box reached over the border that was cut by more than one."""

    @property
    def says_nothing(self) -> bool:
        """Whether it has boxes, and none of them can be used."""
        return not self.boxes and bool(self.left_out)

    def __post_init__(self) -> None:
        if not is_readable(self.name):
            object.__setattr__(self, "name", readable(self.name))


@dataclass(frozen=True)
class Record:
    """A whole annotation file.

    Attributes
    ----------
    class_names : list of str
    pictures : list of RecordedPicture
    faults : list of str
        What is wrong with single entries; these entries are left out. Each names the file.
    notes : list of str
        What is taken otherwise than the file has it, or not taken along, though every entry is used.
    asks : str
        A question that a person has to answer before the boxes can be believed; empty where there is none.
    """

    class_names: list[str]
    pictures: list[RecordedPicture]
    faults: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    asks: str = ""

    def __post_init__(self) -> None:
        # What no text can hold would break whatever it is written to later; control marks are told as such.
        for texts in (self.class_names, self.faults, self.notes):
            texts[:] = [_encodable(each) for each in texts]


@dataclass(frozen=True)
class FoundPicture:
    """A picture that an annotation file speaks of: its name here, and its size in pixels."""

    name: str
    width: int
    height: int


FindPicture = Callable[[str], FoundPicture | None]
"""Finds a picture by a name with or without suffix; needed where a file tells fractions of its size."""


def _encodable(text: str) -> str:
    """The text itself, unless it has halves of letters."""
    try:
        text.encode()
    except UnicodeEncodeError:
        return readable_lines(text)
    return text


def find_nothing(name: str) -> None:
    """For formats that say all by themselves."""
    return None


def origin_in(entry: Mapping[str, Any]) -> str:
    """Where a box of a file comes from, as its ``origin`` says; empty for what is no such word.

    Examples
    --------
    >>> origin_in({"origin": "run 3"}), origin_in({"origin": 5}), origin_in({})
    ('run 3', '', '')
    """
    told = entry.get("origin")
    return readable(told)[:60] if isinstance(told, str) else ""


def cut_by(corners: Sequence[float], width: int, height: int) -> float:
    """By how many pixels a box reaches over the border of its picture, at most; 0 where it lies within it.

    Examples
    --------
    >>> cut_by([-3, 2, 12, 9], 10, 10), cut_by([1, 2, 3, 4], 0, 0)
    (3, 0.0)
    """
    if not width or not height:
        return 0.0
    return max(0.0, -corners[0], -corners[1], corners[2] - width, corners[3] - height)


def fit_box(
    corners: Sequence[float], width: int, height: int, cut: list[float] | None = None
) -> tuple[tuple[float, float, float, float] | None, str]:
    """Cut a box to its picture, or say why it cannot be used.

    Corners are kept to a millionth of a pixel. Every format holds so much, so that boxes come
    back from each of them unchanged, however it turns corners into sizes or fractions.

    Parameters
    ----------
    corners : sequence of four float
    width, height : int
        Size of the picture in pixels; 0 where it is not known.
    cut : list of float, optional
        Gets by how many pixels a box reaches over the border that is cut by more than one.

    Returns
    -------
    box : tuple of float or None
    reason : str
        Empty where there is a box.

    Examples
    --------
    >>> fit_box([-0.5, 2, 8, 9], 8, 8)
    ((0.0, 2.0, 8.0, 8.0), '')
    >>> fit_box([3, 3, 3, 5], 8, 8)
    (None, 'has no area')
    """
    # Written out: it runs twice for each of a million boxes.
    x1, y1, x2, y2 = corners
    try:
        x1, y1 = round(float(x1), DECIMALS), round(float(y1), DECIMALS)
        x2, y2 = round(float(x2), DECIMALS), round(float(y2), DECIMALS)
    except OverflowError:
        return None, "is not made of finite numbers"
    if not (-1e9 < x1 < 1e9 and -1e9 < y1 < 1e9 and -1e9 < x2 < 1e9 and -1e9 < y2 < 1e9):
        return None, "is not made of finite numbers"
    if x2 <= x1 or y2 <= y1:
        return None, "has no area"
    if width and height:
        x1, y1, x2, y2 = max(0.0, x1), max(0.0, y1), min(float(width), x2), min(float(height), y2)
        if x2 <= x1 or y2 <= y1:
            return None, f"lies outside its picture of {width}×{height} pixels"
        if cut is not None and (over := cut_by(corners, width, height)) > 1:
            cut.append(over)
    return (x1, y1, x2, y2), ""
