"""Annotation files in and out of a project, in two steps: look, then take over."""

import unicodedata
from collections import defaultdict
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload, sessionmaker

from avocet.core.errors import InputError
from avocet.formats.record import Record, RecordedBox, RecordedPicture, fit_box
from avocet.media.pictures import picture_size
from avocet.store.folder import DataFolder
from avocet.store.tables import Picture, PictureState
from avocet.work.classes import ensure_classes, list_classes
from avocet.work.labels import NewBox, save_labels
from avocet.work.media import add_picture, get_picture
from avocet.work.progress import Reporter, Stopped
from avocet.work.projects import LABELLED


@dataclass(frozen=True)
class Preview:
    """What taking a file over would do.

    Attributes
    ----------
    pictures : int
        Pictures that would get labels.
    boxes : int
    new_classes : list of str
    kept : list of str
        Pictures that have labels already and stay as they are.
    problems : list of str
        What would be left out.
    """

    pictures: int
    boxes: int
    new_classes: list[str]
    kept: list[str]
    problems: list[str]


@dataclass(frozen=True)
class Located:
    """A record whose pictures were found as files.

    Attributes
    ----------
    record : Record
        Only with the pictures that were found, of known size.
    paths : dict of str to Path
        File of each picture's name.
    problems : list of str
        What is left out.
    """

    record: Record
    paths: dict[str, Path]
    problems: list[str]


def locate(record: Record, images: Path, called: str) -> Located:
    """Find a record's pictures below a folder and fit its boxes to their real size.

    Raises
    ------
    InputError
        If the folder does not exist.
    """
    if not images.is_dir():
        raise InputError(f"{images}: there is no such folder")
    root = images.resolve()
    problems, found, paths = list(record.faults), [], {}
    for picture in record.pictures:
        path = (images / picture.name).resolve()
        if not path.is_relative_to(root):
            problems.append(f"{called}: {picture.name} lies outside of {images}")
            continue
        if not path.is_file():
            problems.append(f"{called}: there is no picture {picture.name} in {images}")
            continue
        try:
            width, height = picture_size(path, picture.name)
        except InputError as error:
            problems.append(str(error))
            continue
        found.append(_fitted(picture, width, height, called, problems))
        paths[picture.name] = path
    return Located(Record(record.class_names, found), paths, problems)


def import_located(
    sessions: sessionmaker[Session],
    folder: DataFolder,
    project_id: int,
    located: Located,
    reporter: Reporter,
) -> dict[str, int]:
    """Copy pictures into a project and take their labels over; labelled ones stay as they are.

    Each picture is stored with its labels in one step, so a stop keeps what there is and
    another import adds the rest.
    """
    record = located.record
    with sessions.begin() as session:
        ids = [each.id for each in ensure_classes(session, project_id, record.class_names)]
    counts = {"pictures": 0, "boxes": 0, "already_labelled": 0, "unreadable": 0}
    for number, recorded in enumerate(record.pictures, start=1):
        if reporter.should_stop():
            raise Stopped
        with sessions.begin() as session:
            name = PurePosixPath(recorded.name).as_posix()
            picture = add_picture(session, folder, project_id, located.paths[recorded.name], name).picture
            if picture.state in LABELLED:
                counts["already_labelled"] += 1
            else:
                _take_over(session, picture, recorded, ids)
                counts["pictures"] += 1
                counts["boxes"] += len(recorded.boxes)
        reporter.progress(number, len(record.pictures), f"{number} of {len(record.pictures)} pictures")
    return counts


def preview(session: Session, project_id: int, record: Record, called: str) -> Preview:
    """What taking a record over into pictures that are in the project would do."""
    matched, kept, problems = _match(session, project_id, record, called)
    there = {each.name for each in list_classes(session, project_id)}
    return Preview(
        pictures=len(matched),
        boxes=sum(len(recorded.boxes) for _, recorded in matched),
        new_classes=[name for name in record.class_names if name not in there],
        kept=kept,
        problems=problems,
    )


def take_over(session: Session, project_id: int, record: Record, called: str) -> Preview:
    """Give the project's unlabelled pictures the boxes of a record, by name."""
    outcome = preview(session, project_id, record, called)
    matched, _, _ = _match(session, project_id, record, called)
    if not matched:
        raise InputError(
            f"{called}: none of its {len(record.pictures)} pictures is in the project without labels"
        )
    ids = [each.id for each in ensure_classes(session, project_id, record.class_names)]
    for picture_id, recorded in matched:
        _take_over(session, get_picture(session, picture_id), recorded, ids)
    return outcome


def export_record(session: Session, project_id: int) -> Record:
    """All labelled pictures of a project as a record; unlabelled ones are left out."""
    classes = list_classes(session, project_id)
    index_of = {each.id: index for index, each in enumerate(classes)}
    pictures = session.scalars(
        select(Picture)
        .options(selectinload(Picture.boxes))
        .where(Picture.project_id == project_id, Picture.binned_at.is_(None), Picture.state.in_(LABELLED))
        .order_by(Picture.id)
    )
    return Record(
        [each.name for each in classes],
        [
            RecordedPicture(
                picture.name,
                picture.width,
                picture.height,
                [
                    RecordedBox(
                        index_of[box.class_id], (box.x1, box.y1, box.x2, box.y2), box.crowd, box.attributes
                    )
                    for box in picture.boxes
                ],
            )
            for picture in pictures
        ],
    )


def _fitted(
    picture: RecordedPicture, width: int, height: int, called: str, problems: list[str]
) -> RecordedPicture:
    """The picture with its real size and only the boxes that lie in it."""
    if picture.width and (picture.width, picture.height) != (width, height):
        problems.append(
            f"{called}: {picture.name} should have {picture.width}×{picture.height} pixels but has {width}×{height}"
        )
    boxes = []
    for box in picture.boxes:
        corners, reason = fit_box(box.corners, width, height)  # type: ignore[arg-type]
        if corners is None:
            problems.append(f"{called}: a box on {picture.name} {reason}")
        else:
            boxes.append(RecordedBox(box.label, corners, box.crowd, box.attributes))
    return RecordedPicture(picture.name, width, height, boxes)


def _match(
    session: Session, project_id: int, record: Record, called: str
) -> tuple[list[tuple[int, RecordedPicture]], list[str], list[str]]:
    """Pictures of the record found in the project by name, those with labels, and what does not fit."""
    by_name: dict[str, list[Picture]] = defaultdict(list)
    for picture in session.scalars(
        select(Picture).where(Picture.project_id == project_id, Picture.binned_at.is_(None))
    ):
        by_name[_plain(picture.name)].append(picture)
    matched, kept, problems = [], [], list(record.faults)
    for recorded in record.pictures:
        found = by_name.get(_plain(recorded.name), []) or by_name.get(
            _plain(PurePosixPath(recorded.name).name), []
        )
        if not found:
            problems.append(f"{called}: the project has no picture {recorded.name}")
        elif len(found) > 1:
            problems.append(f"{called}: the project has {len(found)} pictures called {recorded.name}")
        elif found[0].state in LABELLED:
            kept.append(recorded.name)
        else:
            picture = found[0]
            matched.append((picture.id, _fitted(recorded, picture.width, picture.height, called, problems)))
    return matched, kept, problems


def _take_over(session: Session, picture: Picture, recorded: RecordedPicture, class_ids: list[int]) -> None:
    boxes = [NewBox(class_ids[box.label], box.corners, box.crowd, box.attributes) for box in recorded.boxes]
    save_labels(session, picture, picture.revision, boxes, PictureState.DONE)


def _plain(name: str) -> str:
    """Names compare equal however an accent is written and whichever slash is used."""
    return unicodedata.normalize("NFC", name.replace("\\", "/"))
