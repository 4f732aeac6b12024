"""What a detection run has found, as columns: to be looked at with other limits without looking again."""

import json
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from avocet.core.boxes import Array
from avocet.core.errors import InputError
from avocet.core.raw.candidates import OVERLAP_LIMIT
from avocet.core.raw.suppressing import Method, is_soft
from avocet.core.raw.suppression import suppress
from avocet.work.problems import NotFound
from avocet.work.use.running.objects import TRACKS
from avocet.work.use.running.order import DetectionOrder
from avocet.work.use.running.record import RECORD, read_record
from avocet.work.use.running.written import JSON_NAME

Whole = NDArray[np.int64]
Order = Literal["as they came", "most boxes", "least sure", "surest"]

ClipPlace = tuple[int, int, int]
"""Number, place of the first frame and count of frames of a clip among what was looked at."""

MOST_BINS = 600
"""Of a timeline: more than a page is wide in."""


@dataclass(frozen=True)
class LookedAt:
    """A picture or frame that was looked at. ``frame`` is -1 for a picture."""

    name: str
    width: int
    height: int
    frame: int
    seconds: float
    annotated: str


@dataclass(frozen=True)
class Found:
    """All boxes of a run, weaker and suppressed ones among them.

    Attributes
    ----------
    looked : list of LookedAt
        Pictures and frames, in the order of the record.
    classes : list of str
    owner : (N,) ndarray of int64
        Place of each box's picture; they rise.
    kinds : (N,) ndarray of int64
    scores : (N,) ndarray of float64
    boxes : (N, 4) ndarray of float64
    told : (N,) ndarray of bool
        The run itself tells of it.
    objects : (N,) ndarray of int64
        Numbers of the objects, 0 where there is none.
    suppression : str
        How duplicates went; where that was soft, the scores are what it left.
    least : (C,) ndarray of float64
        The run's own minimum score of each class.
    overlap_limit : float
        The run's own.
    """

    looked: list[LookedAt]
    classes: list[str]
    owner: Whole
    kinds: Whole
    scores: Array
    boxes: Array
    told: NDArray[np.bool_]
    objects: Whole
    suppression: Method = "by class"
    least: Array = field(default_factory=lambda: np.zeros(0))
    overlap_limit: float = OVERLAP_LIMIT

    def kept(
        self,
        minimum_score: float | None = None,
        overlap_limit: float | None = None,
        only: Sequence[str] = (),
    ) -> Whole:
        """Places of the boxes that count.

        Parameters
        ----------
        minimum_score : float, optional
            Of all classes; without one, the run's own of each.
        overlap_limit : float, optional
            Without one, the run's own.
        only : sequence of str
            Classes that count; all where there are none.

        Raises
        ------
        InputError
            If the model has no class of such a name.
        """
        limit = self.overlap_limit if overlap_limit is None else overlap_limit
        if minimum_score is None and (limit == self.overlap_limit or is_soft(self.suppression)):
            chosen = np.flatnonzero(self.told)
        else:
            least = self.least[self.kinds] if minimum_score is None else minimum_score
            chosen = np.flatnonzero(self.scores >= least)
            if not is_soft(self.suppression):
                labels = self.owner[chosen] * len(self.classes)
                if self.suppression == "by class":
                    labels += self.kinds[chosen]
                left = suppress(self.boxes[chosen], self.scores[chosen], limit, labels).kept
                chosen = np.sort(chosen[left])
        if only:
            for name in only:
                if name not in self.classes:
                    raise InputError(f"the model does not know the class {name!r}")
            wanted = [self.classes.index(name) for name in only]
            chosen = chosen[np.isin(self.kinds[chosen], wanted)]
        return chosen


def found_in(place: Path) -> Found | None:
    """What the record in a folder tells of; None where there is none."""
    for name in (RECORD, JSON_NAME):
        path = place / name
        if path.is_file():
            tracks = place / TRACKS
            stamps = [each.stat().st_mtime_ns for each in (path, tracks) if each.is_file()]
            return _read(path, tracks, tuple(stamps))
    return None


@lru_cache(maxsize=4)
def _read(path: Path, tracks: Path, stamps: tuple[int, ...]) -> Found:
    looked: list[LookedAt] = []
    about, order, rows = _rows(path)
    classes = about["classes"]
    number = {name: place for place, name in enumerate(classes)}
    owner: list[int] = []
    kinds: list[int] = []
    scores: list[float] = []
    boxes: list[list[float]] = []
    told: list[bool] = []
    objects: list[int] = []
    for row in rows:
        if "problem" in row:
            continue
        place = len(looked)
        looked.append(
            LookedAt(
                row["name"], row["width"], row["height"], row.get("frame", -1), row.get("seconds", 0.0),
                row.get("annotated", ""),
            )
        )  # fmt: skip
        for each in row["detections"]:
            owner.append(place)
            kinds.append(number[each["class"]])
            scores.append(each["score"])
            boxes.append(each["box"])
            told.append(True)
            objects.append(each.get("object", 0))
        for kind, score, *corners in row.get("others", ()):
            owner.append(place)
            kinds.append(int(kind))
            scores.append(score)
            boxes.append(corners)
            told.append(False)
            objects.append(0)
    made = Found(
        looked,
        classes,
        np.array(owner, dtype=np.int64),
        np.array(kinds, dtype=np.int64),
        np.array(scores, dtype=np.float64),
        np.array(boxes, dtype=np.float64).reshape(-1, 4),
        np.array(told, dtype=bool),
        np.array(objects, dtype=np.int64),
        order.suppression,
        order.least_scores(classes),
        order.overlap_limit,
    )
    if tracks.is_file():
        _number(made, tracks)
    return made


def _rows(path: Path) -> tuple[dict[str, Any], DetectionOrder, Iterator[dict[str, Any]]]:
    """What a run's folder says of the model and the order, and the rows of the record."""
    try:
        if path.name == JSON_NAME:
            document = json.loads(path.read_text(encoding="utf-8"))
            limits = ("minimum_score", "minimum_scores", "overlap_limit")
            order = DetectionOrder.checked({name: document[name] for name in limits if name in document})
            document["model"]["classes"]
            return document["model"], order, iter(document["pictures"])
        known = json.loads((path.parent / "order.json").read_text(encoding="utf-8"))
        known["model"]["classes"]
        return known["model"], DetectionOrder.checked(known["order"]), read_record(path)
    except (OSError, ValueError, KeyError, InputError):
        raise InputError(f"{path.name} of this detection run is damaged") from None


def _number(found: Found, tracks: Path) -> None:
    """Give boxes of clips the numbers of their objects."""
    with np.load(tracks, allow_pickle=False) as kept:
        clip, objects, place, box = (kept[name] for name in ("clip", "object", "place", "told"))
    clips = clips_of(found)
    starts = np.searchsorted(found.owner, np.arange(len(found.looked) + 1))
    counts = np.diff(np.searchsorted(np.flatnonzero(found.told), starts))
    for number, first, frames in clips:
        mine = clip == number
        frame, which = place[mine], box[mine]
        fits = frame < frames
        picture, which, own = first + frame[fits], which[fits], objects[mine][fits]
        # Of weaker boxes, which stand behind those that are told, the record does not keep the order.
        sure = which < counts[picture]
        found.objects[starts[picture[sure]] + which[sure]] = own[sure]


def clips_of(found: Found) -> list[ClipPlace]:
    """Number, place of the first frame and count of frames of each clip of a run."""
    clips: list[ClipPlace] = []
    last = None
    for place, each in enumerate(found.looked):
        if each.frame < 0:
            continue
        if each.name != last:
            clips.append((len(clips), place, 0))
            last = each.name
        number, first, count = clips[-1]
        clips[-1] = (number, first, count + 1)
    return clips


def timeline(found: Found, chosen: Whole) -> dict[str, Any]:
    """How many boxes of each class there are where: the most on a picture within each bin.

    Returns
    -------
    dict
        ``bins``: place of the first picture of each; ``counts``: bin by bin for each class; ``boxes``: of each
        class in all; ``pictures_with``: pictures with at least one of each class; ``empty``: with none at all.
    """
    pictures, classes = len(found.looked), len(found.classes)
    cells = np.bincount(found.owner[chosen] * classes + found.kinds[chosen], minlength=pictures * classes)
    by_picture = cells.reshape(pictures, classes)
    bins = np.unique(np.linspace(0, pictures, min(MOST_BINS, max(pictures, 1)), endpoint=False).astype(int))
    counts = np.maximum.reduceat(by_picture, bins, axis=0) if pictures else np.zeros((0, classes), int)
    return {
        "bins": bins.tolist() if pictures else [],
        "counts": counts.T.tolist(),
        "boxes": by_picture.sum(axis=0).tolist(),
        "pictures_with": (by_picture > 0).sum(axis=0).tolist(),
        "empty": int((by_picture.sum(axis=1) == 0).sum()),
        "pictures": pictures,
    }


def sorted_pictures(
    found: Found,
    chosen: Whole,
    order: Order = "as they came",
    with_class: str | None = None,
    empty: bool = False,
) -> Whole:
    """Places of pictures and frames, sorted and filtered.

    Parameters
    ----------
    found : Found
    chosen : ndarray of int64
        Boxes that count.
    order : {'as they came', 'most boxes', 'least sure', 'surest'}
        By the least or the highest score of a picture; those without a box come last.
    with_class : str, optional
        Only those with a box of this class.
    empty : bool
        Only those with no box at all.
    """
    count = np.bincount(found.owner[chosen], minlength=len(found.looked))
    places = np.arange(len(found.looked))
    keep = np.ones(len(places), bool)
    if empty:
        keep &= count == 0
    if with_class is not None:
        if with_class not in found.classes:
            raise InputError(f"the model does not know the class {with_class!r}")
        of_class = chosen[found.kinds[chosen] == found.classes.index(with_class)]
        keep &= np.bincount(found.owner[of_class], minlength=len(places)) > 0
        chosen = of_class
    if order == "most boxes":
        key = -count.astype(float)
    elif order == "as they came":
        key = places.astype(float)
    else:
        key = np.full(len(places), np.inf)
        worth = found.scores[chosen] if order == "least sure" else -found.scores[chosen]
        np.minimum.at(key, found.owner[chosen], worth)
    return places[keep][np.argsort(key[keep], kind="stable")]


def pictures_with_boxes(found: Found, chosen: Whole, places: Sequence[int]) -> list[dict[str, Any]]:
    """Pictures with their boxes that count, as the page draws them."""
    starts = np.searchsorted(found.owner[chosen], np.arange(len(found.looked) + 1))
    made = []
    for place in places:
        each, mine = found.looked[place], chosen[starts[place] : starts[place + 1]]
        made.append(
            {
                "place": int(place),
                "name": each.name,
                "width": each.width,
                "height": each.height,
                "frame": each.frame if each.frame >= 0 else None,
                "seconds": each.seconds if each.frame >= 0 else None,
                "annotated": each.annotated,
                "boxes": found.boxes[mine].tolist(),
                "scores": found.scores[mine].tolist(),
                "kinds": found.kinds[mine].tolist(),
                "objects": found.objects[mine].tolist(),
            }
        )
    return made


def looked_at(found: Found, place: int) -> LookedAt:
    """The picture or frame at a place. Raises `NotFound` where there is none."""
    if not 0 <= place < len(found.looked):
        raise NotFound(f"the run has no picture {place}")
    return found.looked[place]
