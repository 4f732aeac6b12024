"""What looks wrong with the labels: found, mended, or marked as fine."""

from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.core.findings import doubled, odd_shapes, outside, tiny
from avocet.core.looks import alike, near_pairs
from avocet.media.pictures import read_picture
from avocet.store.folder import DataFolder
from avocet.store.tables import Box, FineAsItIs, Picture, PictureState
from avocet.work.classes import list_classes
from avocet.work.problems import NotFound
from avocet.work.projects import get_project
from avocet.work.thumbnails import thumbnail

FEW_BOXES = 10
"""Classes with fewer boxes can hardly be learnt."""

MOST_LOOKED_AT = 2000
"""Pairs of pictures with near hashes that are compared by their thumbnails."""

MOST_SHOWN = 300
"""Findings of one kind that are listed; all are counted."""

EDGE = 1.5
"""A box that comes so near to the picture's edge, in pixels, is taken to be cut off by it."""

TITLES = {
    "outside": "Reaches outside the picture",
    "tiny": "Under 4 pixels",
    "doubled": "Two boxes on one object",
    "two classes": "Two classes on one object",
    "odd shape": "Shape far from its class",
    "unconfirmed": "No box, and nobody said that it is empty",
    "few boxes": "Class with fewer than ten boxes",
    "near-identical": "Near-identical pictures in two parts",
}


@dataclass(frozen=True)
class SuspectBox:
    """A box that a finding speaks of."""

    id: int
    picture_id: int
    class_id: int
    corners: tuple[float, float, float, float]


@dataclass(frozen=True)
class Finding:
    """Something that may be wrong.

    Attributes
    ----------
    key : str
        Says the same thing again for as long as nothing about it changes.
    kind : str
        One of `TITLES`.
    text : str
        What is there, with figures.
    pictures : list of int
        Ids of the pictures it is about.
    boxes : list of SuspectBox
    fine : bool
        A person found it right.
    """

    key: str
    kind: str
    text: str
    pictures: list[int]
    boxes: list[SuspectBox] = field(default_factory=list)
    fine: bool = False


@dataclass(frozen=True)
class Findings:
    """All findings by kind: those listed, and how many there are of each."""

    listed: list[Finding]
    counts: dict[str, int]
    fine: int


@dataclass(frozen=True)
class _Labels:
    """All boxes of a project as arrays, in order of their pictures."""

    ids: list[int]
    pictures: list[int]
    classes: list[int]
    corners: list[tuple[float, float, float, float]]

    def box(self, index: int) -> SuspectBox:
        return SuspectBox(self.ids[index], self.pictures[index], self.classes[index], self.corners[index])


def find_mistakes(session: Session, folder: DataFolder, project_id: int, with_fine: bool = False) -> Findings:
    """Look for what may be wrong with a project's labels."""
    get_project(session, project_id)
    pictures = {
        picture.id: picture
        for picture in session.scalars(
            select(Picture).where(Picture.project_id == project_id, Picture.binned_at.is_(None))
        )
    }
    fine = set(session.scalars(select(FineAsItIs.finding).where(FineAsItIs.project_id == project_id)))
    names = {each.id: each.name for each in list_classes(session, project_id, retired=True)}
    labels = _labels(session, project_id)
    counts: dict[str, int] = defaultdict(int)
    listed: list[Finding] = []
    quiet = 0
    everything = (
        _in_pictures(labels, pictures, names),
        _shapes(labels, pictures, names),
        _unconfirmed(pictures),
        _few_boxes(session, project_id, labels),
        _near_identical(folder, pictures),
    )
    for finding in (each for some in everything for each in some):
        is_fine = finding.key in fine
        quiet += is_fine
        if is_fine and not with_fine:
            continue
        counts[finding.kind] += 1
        if counts[finding.kind] <= MOST_SHOWN:
            listed.append(
                Finding(finding.key, finding.kind, finding.text, finding.pictures, finding.boxes, is_fine)
            )
    order = list(TITLES)
    listed.sort(key=lambda finding: order.index(finding.kind))
    return Findings(listed, dict(counts), quiet)


def mark_fine(session: Session, project_id: int, keys: Sequence[str], fine: bool) -> None:
    """Say that findings are right as they are, or take that back."""
    get_project(session, project_id)
    if any(len(key) > 400 for key in keys):
        raise InputError("a finding's key has at most 400 characters")
    known = set(session.scalars(select(FineAsItIs.finding).where(FineAsItIs.project_id == project_id)))
    for key in set(keys):
        if fine and key not in known:
            session.add(FineAsItIs(project_id=project_id, finding=key))
        elif not fine:
            session.execute(
                delete(FineAsItIs).where(FineAsItIs.project_id == project_id, FineAsItIs.finding == key)
            )
    session.flush()


def _labels(session: Session, project_id: int) -> _Labels:
    rows = session.execute(
        select(Box.id, Box.picture_id, Box.class_id, Box.x1, Box.y1, Box.x2, Box.y2)
        .join(Picture)
        .where(Picture.project_id == project_id, Picture.binned_at.is_(None), Box.crowd.is_(False))
        .order_by(Box.picture_id, Box.position)
    ).all()
    return _Labels(
        [row[0] for row in rows],
        [row[1] for row in rows],
        [row[2] for row in rows],
        [(row[3], row[4], row[5], row[6]) for row in rows],
    )


def _in_pictures(labels: _Labels, pictures: dict[int, Picture], names: dict[int, str]) -> Iterator[Finding]:
    """What can be told from the boxes of one picture."""
    starts = np.flatnonzero(np.diff([-1, *labels.pictures, -1])).tolist()
    for first, last in pairwise(starts):
        picture = pictures[labels.pictures[first]]
        corners = labels.corners[first:last]
        for index in np.flatnonzero(outside(corners, picture.width, picture.height)):
            box = labels.box(first + int(index))
            text = f"{names[box.class_id]} reaches outside of {picture.name}"
            yield Finding(_key("outside", picture, box), "outside", text, [picture.id], [box])
        for index in np.flatnonzero(tiny(corners)):
            box = labels.box(first + int(index))
            wide, high = box.corners[2] - box.corners[0], box.corners[3] - box.corners[1]
            text = f"{names[box.class_id]} of {wide:.1f}×{high:.1f} pixels in {picture.name}"
            yield Finding(_key("tiny", picture, box), "tiny", text, [picture.id], [box])
        for one, other, overlap in doubled(corners):
            boxes = [labels.box(first + one), labels.box(first + other)]
            same = boxes[0].class_id == boxes[1].class_id
            kind = "doubled" if same else "two classes"
            what = " and ".join(dict.fromkeys(names[box.class_id] for box in boxes))
            text = f"{what} overlap with an IoU of {overlap:.2f} in {picture.name}"
            yield Finding(_key(kind, picture, *boxes), kind, text, [picture.id], boxes)


def _shapes(labels: _Labels, pictures: dict[int, Picture], names: dict[int, str]) -> Iterator[Finding]:
    """Shapes far from their class; what the picture's edge cuts off has no shape of its own."""
    whole = np.array(
        [_is_whole(labels.box(i), pictures[labels.pictures[i]]) for i in range(len(labels.ids))], bool
    )
    far = np.zeros(len(whole))
    kept = np.flatnonzero(whole)
    far[kept] = odd_shapes([labels.corners[i] for i in kept], [labels.classes[i] for i in kept])
    for index in np.argsort(-far, kind="stable")[: int((far > 0).sum())]:
        box = labels.box(int(index))
        aspect = (box.corners[2] - box.corners[0]) / (box.corners[3] - box.corners[1])
        text = (
            f"{names[box.class_id]} with width : height {aspect:.2f}, "
            f"{far[index]:.1f} deviations from the others"
        )
        key = f"odd shape {box.picture_id} {box.class_id} {_place(box)}"
        yield Finding(key, "odd shape", text, [box.picture_id], [box])


def _is_whole(box: SuspectBox, picture: Picture) -> bool:
    x1, y1, x2, y2 = box.corners
    return x1 > EDGE and y1 > EDGE and x2 < picture.width - EDGE and y2 < picture.height - EDGE


def _unconfirmed(pictures: dict[int, Picture]) -> Iterator[Finding]:
    for picture in pictures.values():
        if picture.state == PictureState.DONE and picture.box_count == 0:
            text = f"{picture.name} counts as labelled but has no box"
            yield Finding(f"unconfirmed {picture.id}", "unconfirmed", text, [picture.id])


def _few_boxes(session: Session, project_id: int, labels: _Labels) -> Iterator[Finding]:
    for each in list_classes(session, project_id):
        own = [index for index, class_id in enumerate(labels.classes) if class_id == each.id]
        if len(own) < FEW_BOXES:
            pictures = list(dict.fromkeys(labels.pictures[index] for index in own))
            text = f"{each.name} has {len(own)} {'box' if len(own) == 1 else 'boxes'}"
            key = f"few boxes {each.id} {len(own)}"
            yield Finding(key, "few boxes", text, pictures, [labels.box(index) for index in own])


def _near_identical(folder: DataFolder, pictures: dict[int, Picture]) -> Iterator[Finding]:
    """Pairs whose hashes are near, as far as a look at their thumbnails does not tell them apart."""
    parts = {part: number for number, part in enumerate(("training", "validation", "test"))}
    known = [each for each in pictures.values() if each.look is not None and each.part is not None]
    looks = [each.look or 0 for each in known]
    groups = [parts[each.part.value] for each in known if each.part]
    small = lru_cache(maxsize=256)(lambda number: _thumbnail(folder, known[number]))
    for first, second, _ in near_pairs(looks, groups)[:MOST_LOOKED_AT]:
        one, other = known[first], known[second]
        a, b = small(first), small(second)
        if a is None or b is None or not alike(a, b):
            continue
        text = f"{one.name} ({one.part}) and {other.name} ({other.part}) look the same"
        key = f"near-identical {one.content_hash[:16]} {other.content_hash[:16]}"
        yield Finding(key, "near-identical", text, [one.id, other.id])


def _thumbnail(folder: DataFolder, picture: Picture) -> NDArray[np.uint8] | None:
    try:
        return read_picture(thumbnail(folder, picture), picture.name)
    except (InputError, NotFound):
        return None


def _key(kind: str, picture: Picture, *boxes: SuspectBox) -> str:
    return " ".join([kind, str(picture.id), *(f"{box.class_id} {_place(box)}" for box in boxes)])


def _place(box: SuspectBox) -> str:
    return ",".join(f"{value:.1f}" for value in box.corners)
