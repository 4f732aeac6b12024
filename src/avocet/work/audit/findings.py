"""What looks wrong with the labels: found, mended, or marked as fine."""

from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.core.labels.findings import doubled, odd_shapes, outside, tiny
from avocet.core.labels.looks import alike, near_identical
from avocet.media.pictures import read_picture
from avocet.readable import so_many
from avocet.store.audit_tables import FineAsItIs
from avocet.store.folder import DataFolder
from avocet.store.rows import plain_rows
from avocet.store.tables import Picture, PictureState
from avocet.work.labels.classes import list_classes
from avocet.work.labels.columns import PARTS, STATES, read_columns
from avocet.work.progress import SILENT, Reporter, Stopped
from avocet.work.project.projects import get_project

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
    class_id : int, optional
        The class it is about, where it is about one.
    """

    key: str
    kind: str
    text: str
    pictures: list[int]
    boxes: list[SuspectBox] = field(default_factory=list)
    class_id: int | None = None


@dataclass(frozen=True)
class Looked:
    """What a look found: how much of each kind, what is listed of it, and what of it was marked fine."""

    counts: dict[str, int]
    listed: list[Finding]
    fine: list[Finding]


class _Project:
    """All that the rules look at."""

    def __init__(self, session: Session, folder: DataFolder, project_id: int) -> None:
        self.columns = read_columns(session, project_id)
        self.classes = {each.id: each.name for each in list_classes(session, project_id, retired=True)}
        self.active = [(each.id, each.name) for each in list_classes(session, project_id)]
        query = select(Picture.id, Picture.name, Picture.content_hash, Picture.look, Picture.white)
        here = (Picture.project_id == project_id, Picture.binned_at.is_(None))
        self.pictures = {row[0]: row[1:] for some in plain_rows(session, query.where(*here)) for row in some}
        self.folder, self.project_id = folder, project_id

    def name(self, place: int) -> str:
        """Name of the picture at a place."""
        return str(self.pictures[int(self.columns.picture_ids[place])][0])

    def box(self, index: int) -> SuspectBox:
        columns = self.columns
        x1, y1, x2, y2 = columns.corners[index].tolist()
        return SuspectBox(
            int(columns.box_ids[index]), int(columns.picture_ids[columns.owner[index]]),
            int(columns.class_ids[index]), (x1, y1, x2, y2),
        )  # fmt: skip


def look_for_findings(
    session: Session, folder: DataFolder, project_id: int, reporter: Reporter = SILENT
) -> Looked:
    """Look for what may be wrong with a project's labels. Those marked fine are told apart."""
    get_project(session, project_id)
    project = _Project(session, folder, project_id)
    fine = marked_fine(session, project_id)
    counts: dict[str, int] = defaultdict(int)
    listed: list[Finding] = []
    quiet: list[Finding] = []
    rules = (_outside, _tiny, _doubled, _shapes, _unconfirmed, _few_boxes, _near_identical)
    for number, rule in enumerate(rules):
        reporter.progress(number, len(rules), "Looking through the labels")
        if reporter.should_stop():
            raise Stopped
        for finding in rule(project):
            if finding.key in fine:
                quiet.append(finding)
                continue
            counts[finding.kind] += 1
            if counts[finding.kind] <= MOST_SHOWN:
                listed.append(finding)
    order = list(TITLES)
    listed.sort(key=lambda finding: order.index(finding.kind))
    return Looked(dict(counts), listed, quiet)


def marked_fine(session: Session, project_id: int) -> set[str]:
    """Keys of the findings that a person found right."""
    return set(session.scalars(select(FineAsItIs.finding).where(FineAsItIs.project_id == project_id)))


def mark_fine(session: Session, project_id: int, keys: Sequence[str], fine: bool) -> None:
    """Say that findings are right as they are, or take that back."""
    get_project(session, project_id)
    if any(len(key) > 400 for key in keys):
        raise InputError("a finding's key has at most 400 characters")
    known = marked_fine(session, project_id)
    for key in set(keys):
        if fine and key not in known:
            session.add(FineAsItIs(project_id=project_id, finding=key))
        elif not fine:
            session.execute(
                delete(FineAsItIs).where(FineAsItIs.project_id == project_id, FineAsItIs.finding == key)
            )
    session.flush()


def _outside(project: _Project) -> Iterator[Finding]:
    columns = project.columns
    corners, sizes = columns.corners, columns.sizes[columns.owner]
    beyond = outside(corners, sizes[:, 0], sizes[:, 1])
    for index in np.flatnonzero(beyond & ~columns.crowd).tolist():
        box = project.box(index)
        text = f"{project.classes[box.class_id]} reaches outside of {project.name(columns.owner[index])}"
        yield Finding(_key("outside", box), "outside", text, [box.picture_id], [box])


def _tiny(project: _Project) -> Iterator[Finding]:
    columns = project.columns
    for index in np.flatnonzero(tiny(columns.corners) & ~columns.crowd).tolist():
        box = project.box(index)
        wide, high = box.corners[2] - box.corners[0], box.corners[3] - box.corners[1]
        name = project.name(columns.owner[index])
        text = f"{project.classes[box.class_id]} of {wide:.1f}×{high:.1f} pixels in {name}"
        yield Finding(_key("tiny", box), "tiny", text, [box.picture_id], [box])


def _doubled(project: _Project) -> Iterator[Finding]:
    columns = project.columns
    plain = np.flatnonzero(~columns.crowd)
    for first, second, overlap in doubled(columns.corners[plain], columns.owner[plain]):
        boxes = [project.box(int(plain[each])) for each in (first, second)]
        kind = "doubled" if boxes[0].class_id == boxes[1].class_id else "two classes"
        names = [project.classes[box.class_id] for box in boxes]
        what = f"two boxes of {names[0]}" if kind == "doubled" else " and ".join(names)
        name = project.name(columns.owner[plain[first]])
        text = f"{what} overlap with an IoU of {overlap:.2f} in {name}"
        yield Finding(_key(kind, *boxes), kind, text, [boxes[0].picture_id], boxes)


def _shapes(project: _Project) -> Iterator[Finding]:
    """Shapes far from their class; what the picture's edge cuts off has no shape of its own."""
    columns = project.columns
    corners, sizes = columns.corners, columns.sizes[columns.owner]
    whole = (corners[:, :2] > EDGE).all(axis=1) & (corners[:, 2:] < sizes - EDGE).all(axis=1)
    kept = np.flatnonzero(whole & ~columns.crowd)
    far = odd_shapes(corners[kept], columns.class_ids[kept])
    for place in np.argsort(-far, kind="stable")[: int((far > 0).sum())].tolist():
        box = project.box(int(kept[place]))
        aspect = (box.corners[2] - box.corners[0]) / (box.corners[3] - box.corners[1])
        text = (
            f"{project.classes[box.class_id]} with width : height {aspect:.2f}, "
            f"{far[place]:.1f} deviations from the others"
        )
        yield Finding(_key("odd shape", box), "odd shape", text, [box.picture_id], [box])


def _unconfirmed(project: _Project) -> Iterator[Finding]:
    columns = project.columns
    boxes = np.bincount(columns.owner, minlength=len(columns.picture_ids))
    done = columns.state == STATES.index(PictureState.DONE)
    for place in np.flatnonzero(done & (boxes == 0)).tolist():
        number = int(columns.picture_ids[place])
        text = f"{project.name(place)} counts as labelled but has no box"
        yield Finding(f"unconfirmed {number}", "unconfirmed", text, [number])


def _few_boxes(project: _Project) -> Iterator[Finding]:
    columns = project.columns
    plain = np.flatnonzero(~columns.crowd)
    for class_id, name in project.active:
        own = plain[columns.class_ids[plain] == class_id]
        if len(own) < FEW_BOXES:
            boxes = [project.box(int(index)) for index in own]
            pictures = list(dict.fromkeys(box.picture_id for box in boxes))
            text = f"{name} has {so_many(len(own), 'box', 'boxes')}"
            key = f"few boxes {class_id} {len(own)}"
            yield Finding(key, "few boxes", text, pictures, boxes, class_id)


def _near_identical(project: _Project) -> Iterator[Finding]:
    """Pairs whose hashes are near, as far as a look at their thumbnails does not tell them apart."""
    columns = project.columns
    numbers, looks, groups = [], [], []
    for number, part in zip(columns.picture_ids.tolist(), columns.part.tolist(), strict=True):
        look = project.pictures[number][2]
        if look is not None and PARTS[part] is not None:
            numbers.append(number)
            looks.append(look)
            groups.append(part)
    small = lru_cache(maxsize=256)(lambda number: _thumbnail(project, number))
    for first, second, _ in near_identical(looks, groups)[:MOST_LOOKED_AT]:
        one, other = numbers[first], numbers[second]
        a, b = small(one), small(other)
        if a is None or b is None or not alike(a, b):
            continue
        (name, digest, *_), (other_name, other_digest, *_) = (project.pictures[each] for each in (one, other))
        text = f"{name} ({PARTS[groups[first]]}) and {other_name} ({PARTS[groups[second]]}) look the same"
        key = f"near-identical {digest[:16]} {other_digest[:16]}"
        yield Finding(key, "near-identical", text, [one, other])


def _thumbnail(project: _Project, number: int) -> NDArray[np.uint8] | None:
    name, digest, _look, white = project.pictures[number]
    path = project.folder.thumbnail(project.project_id, digest, white)
    try:
        return read_picture(path, name) if path.is_file() else None
    except InputError:
        return None


def _key(kind: str, *boxes: SuspectBox) -> str:
    return " ".join([kind, str(boxes[0].picture_id), *(f"{box.class_id} {_place(box)}" for box in boxes)])


def _place(box: SuspectBox) -> str:
    return ",".join(f"{value:.1f}" for value in box.corners)
