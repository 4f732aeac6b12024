"""How pictures are filed: their part, the bin, tags. Set for very many at once, with a way back.

Each is one statement over a portion of pictures, whatever their number. A picture's row in the
change carries a mark of what it got (``part test``, ``bin in``, ``tag + glare``) and what it had.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, TypeVar, cast

from sqlalchemy import ColumnElement, Select, delete, func, insert, literal, select, true, update
from sqlalchemy.dialects.sqlite import insert as insert_or
from sqlalchemy.engine import CursorResult
from sqlalchemy.orm import Session

from avocet.readable import so_many, usable_name
from avocet.store.database import Sessions
from avocet.store.rows import among, quietly, without_index
from avocet.store.tables import Change, ChangedPicture, Part, Picture, PictureTag, now
from avocet.work.job_givens import PicturesToBin, PicturesToPart, PicturesToTag
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import ChangeMade
from avocet.work.labels.changes import begin_change
from avocet.work.progress import SILENT, Reporter, in_portions

AT_ONCE = 1000
"""Pictures filed in one transaction."""

LONGEST_TAG = 60

T = TypeVar("T", bound=Any)

PART, BINNED, RESTORED, TAGGED, UNTAGGED = "part ", "bin in", "bin out", "tag + ", "tag - "


def do_part(task: Task[PicturesToPart]) -> ChangeMade:
    """Move pictures to a part in the background."""
    given = task.given
    return set_part(task.sessions, given.project_id, given.ids, given.part, task.reporter)


def do_bin(task: Task[PicturesToBin]) -> ChangeMade:
    """Move pictures to the bin, or restore them, in the background."""
    given = task.given
    return set_binned(task.sessions, given.project_id, given.ids, given.binned, task.reporter)


def do_tag(task: Task[PicturesToTag]) -> ChangeMade:
    """Tag pictures, or take the tag off, in the background."""
    given = task.given
    return set_tag(task.sessions, given.project_id, given.ids, given.tag, given.on, task.reporter)


def set_part(
    sessions: Sessions, project_id: int, ids: Sequence[int], part: Part | None, reporter: Reporter = SILENT
) -> ChangeMade:
    """Move pictures to a part by hand, or leave them unassigned."""
    return set_parts(sessions, project_id, {part: ids}, f"moved to {part or 'unassigned'}", reporter)


def set_parts(
    sessions: Sessions, project_id: int, ids_by_part: Mapping[Part | None, Sequence[int]], done: str,
    reporter: Reporter = SILENT,
) -> ChangeMade:  # fmt: skip
    """Move pictures to several parts as one change; its title says that so many pictures were ``done``."""
    steps = [
        _Step(
            mark=f"{PART}{part.value if part else ''}",
            ids=ids,
            differs=Picture.part.is_distinct_from(part),
            before=func.json_object("part", Picture.part),
            values={"part": part},
        )
        for part, ids in ids_by_part.items()
    ]
    return _file(sessions, project_id, done, steps, reporter)


def set_binned(
    sessions: Sessions, project_id: int, ids: Sequence[int], binned: bool, reporter: Reporter = SILENT
) -> ChangeMade:
    """Move pictures to the bin, or restore them."""
    step = _Step(
        mark=BINNED if binned else RESTORED,
        ids=ids,
        differs=Picture.binned_at.is_(None) if binned else Picture.binned_at.is_not(None),
        before=func.json_object("binned_at", Picture.binned_at),
        values={"binned_at": now() if binned else None},
    )
    return _file(sessions, project_id, "moved to the bin" if binned else "restored", [step], reporter)


def set_tag(
    sessions: Sessions, project_id: int, ids: Sequence[int], tag: str, on: bool, reporter: Reporter = SILENT
) -> ChangeMade:
    """Put a tag on pictures, or take it off. Raises `InputError` for a tag that is empty or too long."""
    wanted = usable_name(tag, "a tag", LONGEST_TAG)
    has = select(PictureTag.tag).where(PictureTag.picture_id == Picture.id, PictureTag.tag == wanted).exists()
    step = _Step(
        mark=f"{TAGGED if on else UNTAGGED}{wanted}",
        ids=ids,
        differs=~has if on else has,
        before=func.json_object(),
        tag=wanted,
        tagged=on,
    )
    return _file(
        sessions, project_id, f"tagged {wanted}" if on else f"without the tag {wanted}", [step], reporter
    )


@dataclass(frozen=True)
class _Step:
    """What pictures get: the condition that they have not got it yet, what they had, and what is written.

    That is values of the picture itself, or a tag put on or taken off.
    """

    mark: str
    ids: Sequence[int]
    differs: ColumnElement[bool]
    before: Any
    values: dict[str, Any] = field(default_factory=dict)
    tag: str = ""
    tagged: bool = True


def _file(
    sessions: Sessions, project_id: int, done: str, steps: Sequence[_Step], reporter: Reporter
) -> ChangeMade:
    """Take the steps as one change, which says at the end how many pictures it met."""
    with sessions.begin() as session:
        change_id = begin_change(session, project_id, f"Pictures {done}").id
    changed = 0
    order = [(number, place) for place, step in enumerate(steps) for number in step.ids]
    for some in in_portions(order, AT_ONCE, reporter):
        with sessions.begin() as session:
            for place in sorted({place for _, place in some}):
                ids = [number for number, step in some if step == place]
                changed += _take(session, project_id, change_id, steps[place], ids)
    with sessions.begin() as session:
        change = session.get_one(Change, change_id)
        change.title = f"{so_many(changed, 'picture')} {done}"
        if not changed:
            session.delete(change)
    return ChangeMade(change_id=change_id if changed else None, title=change.title, changed=changed)


def _take(session: Session, project_id: int, change_id: int, step: _Step, ids: Sequence[int]) -> int:
    """Write one portion of a step; returns how many pictures it met."""
    # Sought by their number, not by going through all of the project.
    chosen = (without_index(Picture.project_id) == project_id, among(Picture.id, ids), step.differs)
    rows = select(literal(change_id), Picture.id, literal(step.mark), step.before).where(*chosen)
    columns = ["change_id", "picture_id", "after", "before"]
    met = _count(session.execute(insert(ChangedPicture).from_select(columns, rows)))
    if step.tag:
        _tag(session, select(Picture.id).where(*chosen), step.tag, step.tagged)
    else:
        session.execute(quietly(update(Picture).where(*chosen).values(step.values)))
    return met


def restore_filing(session: Session, change_id: int, mark: str, ids: Sequence[int]) -> int:
    """Give pictures back how they were filed before a change, where they are still as it left them.

    Parameters
    ----------
    session : Session
    change_id : int
    mark : str
        What the change left on these pictures.
    ids : sequence of int

    Returns
    -------
    int
        Pictures restored.
    """
    rows = select(ChangedPicture.picture_id).where(
        ChangedPicture.change_id == change_id,
        ChangedPicture.after == mark,
        among(ChangedPicture.picture_id, ids),
    )
    if mark.startswith((TAGGED, UNTAGGED)):
        return _tag(session, rows, mark[len(TAGGED) :], mark.startswith(UNTAGGED))
    had = (
        select(ChangedPicture.before)
        .where(ChangedPicture.change_id == change_id, ChangedPicture.picture_id == Picture.id)
        .scalar_subquery()
    )
    if mark.startswith(PART):
        as_left = Picture.part.is_not_distinct_from(Part(mark[len(PART) :]) if mark != PART else None)
        values = {"part": func.json_extract(had, "$.part")}
    else:
        as_left = Picture.binned_at.is_not(None) if mark == BINNED else Picture.binned_at.is_(None)
        values = {"binned_at": func.json_extract(had, "$.binned_at")}
    statement = update(Picture).where(Picture.id.in_(rows), as_left).values(values)
    return _count(session.execute(quietly(statement)))


def _tag(session: Session, pictures: Select[int], tag: str, on: bool) -> int:
    """Put a tag on the pictures of a query, or take it off; returns how many had it the other way."""
    if not on:
        gone = delete(PictureTag).where(PictureTag.tag == tag, PictureTag.picture_id.in_(pictures))
        return _count(session.execute(quietly(gone)))
    listed = pictures.add_columns(literal(tag)).where(true())
    statement = insert_or(PictureTag).from_select(["picture_id", "tag"], listed)
    return _count(session.execute(statement.on_conflict_do_nothing()))


def _count(result: Any) -> int:
    return int(cast("CursorResult[Any]", result).rowcount)
