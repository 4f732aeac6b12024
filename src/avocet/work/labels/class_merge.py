"""Two classes made one: statements over portions of pictures, however many boxes there are.

A picture's row in the change carries the mark ``class 5 into 9`` and the places of the boxes that were turned.
"""

import re
from collections.abc import Sequence
from typing import Any

from sqlalchemy import ColumnElement, func, literal, select, update
from sqlalchemy.dialects.sqlite import insert
from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.store.clip_tables import ClipTrack, delete_track
from avocet.store.database import Sessions, reading
from avocet.store.rows import among, quietly, without_index
from avocet.store.tables import Box, Change, ChangedPicture, ObjectClass, Picture, now
from avocet.work.job_givens import ClassToMerge
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import ChangeMade
from avocet.work.labels.changes import begin_change, changing_classes
from avocet.work.labels.classes import get_class, retire
from avocet.work.progress import SILENT, Reporter, in_portions

AT_ONCE = 1000
"""Pictures met in one transaction."""

MARK = re.compile(r"class (\d+) into (\d+)")
"""What a merge leaves on the pictures that it met."""


def do_merge(task: Task[ClassToMerge]) -> ChangeMade:
    """Merge a class in the background."""
    given = task.given
    return merge_class(task.sessions, given.project_id, given.class_id, given.into_id, task.reporter)


def to_merge(
    session: Session, project_id: int, class_id: int, into_id: int
) -> tuple[ObjectClass, ObjectClass]:
    """A class and the one that it can be merged into; see `merge_class`."""
    chosen, target = get_class(session, project_id, class_id), get_class(session, project_id, into_id)
    if chosen is target:
        raise InputError(f"{chosen.name!r} cannot be merged into itself")
    if target.retired_at is not None:
        raise InputError(f"{target.name!r} is retired; restore it first")
    return chosen, target


def boxes_of_class(session: Session, class_id: int, most: int) -> int:
    """How many boxes a class has, counted up to ``most``."""
    return len(session.scalars(select(Box.id).where(Box.class_id == class_id).limit(most)).all())


def merge_class(
    sessions: Sessions, project_id: int, class_id: int, into_id: int, reporter: Reporter = SILENT
) -> ChangeMade:
    """Give all boxes of a class to another one, and retire it.

    It is retired once no box has it: after a stop it is still in use, and the rest can be merged later.

    Raises
    ------
    InputError
        For one and the same class, or one that is retired.
    """
    with sessions.begin() as session:
        chosen, target = to_merge(session, project_id, class_id, into_id)
        change_id = begin_change(session, project_id, f"{chosen.name} merged into {target.name}").id
    changed = 0
    having = select(Box.picture_id).where(Box.class_id == class_id).distinct()
    while True:
        with reading(sessions)() as session:
            pictures = session.scalars(having.order_by(Box.picture_id)).all()
        for some in in_portions(pictures, AT_ONCE, reporter):
            with sessions.begin() as session:
                changed += _turn(session, change_id, class_id, into_id, some)
        with sessions.begin() as session:
            # Somebody may have drawn one meanwhile.
            if session.scalar(having.limit(1)) is not None:
                continue
            change = session.get_one(Change, change_id)
            change.tracks = _turn_tracks(session, class_id, into_id)
            with changing_classes(session, change):
                into = get_class(session, project_id, into_id)
                retire(session, get_class(session, project_id, class_id), into)
            return ChangeMade(change_id=change_id, title=change.title, changed=changed)


def is_merge(mark: str) -> bool:
    """Whether what a change left on a picture tells of a merge."""
    return MARK.fullmatch(mark) is not None


def restore_merged(session: Session, change_id: int, mark: str, ids: Sequence[int]) -> int:
    """Give boxes back the class that they had before a merge, where they still lie as it left them.

    Parameters
    ----------
    session : Session
    change_id : int
    mark : str
        What the change left on these pictures; see `MARK`.
    ids : sequence of int
        Pictures.

    Returns
    -------
    int
        Pictures of which boxes went back.
    """
    found = MARK.fullmatch(mark)
    assert found is not None
    before, after = map(int, found.groups())
    turned = (
        select(_turned(ChangedPicture.before))
        .where(ChangedPicture.change_id == change_id, ChangedPicture.picture_id == Box.picture_id)
        .scalar_subquery()
    )
    back = (*_of(after, ids), func.instr(literal(";") + turned + ";", literal(";") + _place() + ";") > 0)
    pictures = session.scalars(select(Box.picture_id).where(*back).distinct()).all()
    session.execute(quietly(update(Box).where(*back).values(class_id=before)))
    _saved(session, pictures)
    return len(pictures)


def _turn_tracks(session: Session, class_id: int, into_id: int) -> list[tuple[int, int, int]]:
    """Give objects of clips the other class; which ones, to be told to `restore_tracks`."""
    rows = session.scalars(select(ClipTrack).where(ClipTrack.class_id == class_id)).all()
    for row in rows:
        row.class_id, row.revision = into_id, row.revision + 1
    return [(row.id, class_id, into_id) for row in rows]


def restore_tracks(session: Session, change: Change) -> None:
    """Give objects of clips back the class that they had before a merge, where they still have the other one.

    Those that came with the change go with it, unless somebody has worked on them since.
    """
    for number, before, after, *begun in change.tracks:
        row = session.get(ClipTrack, number)
        if row is None:
            continue
        if before is None:
            # Changes of earlier versions do not say the revision, which was the first then.
            if [row.revision] == (begun or [1]):
                delete_track(session, row)
        elif row.class_id == after:
            row.class_id, row.revision = before, row.revision + 1


def _turn(session: Session, change_id: int, class_id: int, into_id: int, ids: Sequence[int]) -> int:
    """Turn the boxes of some pictures, as part of a transaction; returns how many there were."""
    places = func.json_object("turned", func.group_concat(_place(), ";"))
    mark = literal(f"class {class_id} into {into_id}")
    rows = select(literal(change_id), Box.picture_id, mark, places).where(*_of(class_id, ids))
    statement = insert(ChangedPicture).from_select(
        ["change_id", "picture_id", "after", "before"], rows.group_by(Box.picture_id)
    )
    # Where one was drawn meanwhile, the picture is met twice.
    both = _turned(ChangedPicture.before) + ";" + _turned(statement.excluded.before)
    session.execute(
        statement.on_conflict_do_update(
            index_elements=[ChangedPicture.change_id, ChangedPicture.picture_id],
            set_={"before": func.json_object("turned", both)},
        )
    )
    pictures = session.scalars(select(Box.picture_id).where(*_of(class_id, ids)).distinct()).all()
    result: Any = session.execute(quietly(update(Box).where(*_of(class_id, ids)).values(class_id=into_id)))
    _saved(session, pictures)
    return int(result.rowcount)


def _of(class_id: int, pictures: Sequence[int]) -> tuple[ColumnElement[bool], ...]:
    """Boxes of a class on some pictures, sought by the pictures."""
    return among(Box.picture_id, pictures), without_index(Box.class_id) == class_id


def _place() -> ColumnElement[str]:
    """Which box of its picture one is, and where it lies."""
    return func.printf("%d %.3f %.3f %.3f %.3f", Box.position, Box.x1, Box.y1, Box.x2, Box.y2)


def _turned(record: Any) -> Any:
    return func.json_extract(record, "$.turned")


def _saved(session: Session, pictures: Sequence[int]) -> None:
    values = {"revision": Picture.revision + 1, "labelled_at": now()}
    session.execute(quietly(update(Picture).where(among(Picture.id, pictures)).values(values)))
