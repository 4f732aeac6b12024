"""Labels of annotation files taken over into a project: one step that happens or does not."""

from collections.abc import Container, Mapping, Sequence

from sqlalchemy import delete
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.formats.files import LabelFiles
from avocet.formats.kinds import read_labels
from avocet.formats.parts import read_parts
from avocet.formats.record import Record, RecordedPicture
from avocet.formats.table import Columns
from avocet.store.database import Sessions, reading
from avocet.store.tables import Change, Part, PictureState
from avocet.work.exchange.project_labels import ProjectPictures, pair_pictures
from avocet.work.job_outcomes import LabelsTaken
from avocet.work.labels.boxes import IMPORTED, NewBox, state_with
from avocet.work.labels.changes import begin_change, changing_classes
from avocet.work.labels.classes import add_class, get_class, list_classes
from avocet.work.labels.many import AS_IT_IS, Rewritten, change_labels
from avocet.work.labels.rows import PictureRow
from avocet.work.labels.states import BEGUN
from avocet.work.labels.undo import undo_change
from avocet.work.progress import Reporter

LEFT_OUT = ""
"""As the target of a class: its boxes are not taken over."""

Targets = Mapping[str, str | int]
"""For names of classes in a file: the id of a class here, the name of one to be made, or '' to leave
its boxes out. Others become the class of their own name."""


def take_over(
    sessions: Sessions,
    project_id: int,
    files: LabelFiles,
    reporter: Reporter,
    key: str | None = None,
    columns: Columns | None = None,
    targets: Targets | None = None,
    replace: bool = False,
    corners: bool | None = None,
) -> LabelsTaken:
    """Give the project's pictures the boxes of annotation files.

    The files are read as a whole before anything is changed; see `take_record`.

    Parameters
    ----------
    sessions : sessionmaker
    project_id : int
    files : LabelFiles
    reporter : Reporter
    key : str, optional
        The format.
    columns : Columns, optional
        For CSV.
    targets : mapping, optional
        See `Targets`.
    replace : bool
        Also give pictures that have labels the new ones in place of theirs.
    corners : bool, optional
        Whether boxes of a COCO file are corners.

    Raises
    ------
    InputError
        If no picture fits, or a class cannot be made.
    """
    reporter.progress(0, 1, f"Reading {files.called}")
    with reading(sessions)() as session:
        here = ProjectPictures(session, project_id)
        _, record = read_labels(files, here.find, key, columns, corners)
        if record.asks:
            raise InputError(record.asks)
        matched = pair_pictures(here, record, files.called)
    wanted = dict(matched.free + (matched.labelled if replace else []))
    if not wanted:
        raise InputError(
            f"{files.called}: none of its {len(record.pictures)} pictures is in the project without labels"
        )
    parts = read_parts(files)
    return take_record(sessions, project_id, files.called, record, wanted, reporter, targets, replace, parts)


def take_record(
    sessions: Sessions,
    project_id: int,
    called: str,
    record: Record,
    wanted: Mapping[int, RecordedPicture],
    reporter: Reporter,
    targets: Targets | None = None,
    replace: bool = False,
    parts: Mapping[str, str] | None = None,
) -> LabelsTaken:
    """Give pictures their boxes of a record, all or none: what a stop or an error breaks off is undone.

    Only a kill can leave a part of it. Then the change stands among the others, to be undone.

    Parameters
    ----------
    wanted : mapping
        What each picture gets, under its number.
    parts : mapping, optional
        Of pictures by their name in the record; those that are unassigned get theirs.
    """
    parts = parts or {}
    # A million boxes are gone through before anybody has to wait for it.
    used = {box.label for recorded in wanted.values() for box in recorded.boxes}
    with sessions.begin() as session:
        change = begin_change(session, project_id, f"Labels from {called}")
        with changing_classes(session, change):
            ids = _class_ids(session, project_id, record, used, targets or {})
        change_id = change.id
    taken: dict[int, int] = {}

    def edit(labels: PictureRow) -> Rewritten | None:
        if labels.state in BEGUN and not replace:
            return None
        recorded = wanted[labels.id]
        boxes = new_boxes(recorded, ids)
        taken[labels.id] = len(boxes)
        named = parts.get(recorded.name) if labels.part is None else None
        part = Part(named) if named else AS_IT_IS
        return Rewritten(boxes, state_with(PictureState.DONE, bool(boxes), by_hand=False), part)

    try:
        change_labels(sessions, change_id, sorted(wanted), edit, reporter)
    except BaseException:
        undo_change(sessions, project_id, change_id)
        with sessions.begin() as session:
            session.execute(delete(Change).where(Change.id == change_id))
        raise
    return LabelsTaken(pictures=len(taken), boxes=sum(taken.values()), change_id=change_id)


def new_boxes(recorded: RecordedPicture, class_ids: Sequence[int | None]) -> list[NewBox]:
    """A recorded picture's boxes under the classes here; those of no class are left out."""
    pairs = ((class_ids[box.label], box) for box in recorded.boxes)
    return [
        NewBox(class_id, box.corners, box.crowd, box.attributes, box.track, box.origin or IMPORTED)
        for class_id, box in pairs
        if class_id is not None
    ]


def _class_ids(
    session: Session,
    project_id: int,
    record: Record,
    used: Container[int],
    targets: Targets,
) -> list[int | None]:
    """Each class of the record as a class here; only those that are named or used are made."""
    there = {each.name: each.id for each in list_classes(session, project_id)}
    result: list[int | None] = []
    for number, name in enumerate(record.class_names):
        target = targets.get(name, name)
        if target == LEFT_OUT:
            result.append(None)
        elif isinstance(target, int):
            result.append(get_class(session, project_id, target).id)
        elif target in there:
            result.append(there[target])
        elif number in used or not record.pictures or name not in targets:
            there[target] = add_class(session, project_id, target).id
            result.append(there[target])
        else:
            result.append(None)
    return result
