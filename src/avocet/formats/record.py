"""The neutral record that every annotation format is read into and written from."""

from dataclasses import dataclass, field
from typing import Any

from avocet.core.boxes import Array


@dataclass(frozen=True)
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
    """

    label: int
    corners: tuple[float, float, float, float]
    crowd: bool = False
    attributes: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class RecordedPicture:
    """One picture and its boxes. The size is 0 where the file does not say."""

    name: str
    width: int
    height: int
    boxes: list[RecordedBox]


@dataclass(frozen=True)
class Record:
    """A whole annotation file.

    Attributes
    ----------
    class_names : list of str
    pictures : list of RecordedPicture
    faults : list of str
        What is wrong with single entries; these entries are left out. Each names the file.
    """

    class_names: list[str]
    pictures: list[RecordedPicture]
    faults: list[str] = field(default_factory=list)


def fit_box(corners: Array, width: int, height: int) -> tuple[tuple[float, float, float, float] | None, str]:
    """Cut a box to its picture, or say why it cannot be used.

    Parameters
    ----------
    corners : (4,) ndarray
    width, height : int
        Size of the picture in pixels; 0 where it is not known.

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
    x1, y1, x2, y2 = (float(value) for value in corners)
    if not all(-1e9 < value < 1e9 for value in (x1, y1, x2, y2)):
        return None, "is not made of finite numbers"
    if x2 <= x1 or y2 <= y1:
        return None, "has no area"
    if width and height:
        x1, y1, x2, y2 = max(0.0, x1), max(0.0, y1), min(float(width), x2), min(float(height), y2)
        if x2 <= x1 or y2 <= y1:
            return None, f"lies outside its picture of {width}×{height} pixels"
    return (x1, y1, x2, y2), ""
