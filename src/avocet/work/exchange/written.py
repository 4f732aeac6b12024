"""A project's labels written to a file, and what a format cannot hold of them."""

import io
import zipfile
from collections.abc import Iterable
from dataclasses import replace
from typing import Any

import numpy as np
from sqlalchemy import func, select, text
from sqlalchemy.orm import Session

from avocet.files import safe_name, write_bytes
from avocet.formats.kinds import Format, Held, format_called, held_by, what_is_lost
from avocet.formats.names import told_apart
from avocet.formats.record import Record, RecordedBox, RecordedPicture
from avocet.formats.table import write_table
from avocet.store.database import reading
from avocet.store.rows import plain_rows
from avocet.store.tables import Box, Picture, PictureState
from avocet.work.job_givens import LabelsToWrite
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import LabelsWritten
from avocet.work.labels.classes import list_classes
from avocet.work.labels.columns import LabelColumns
from avocet.work.labels.rows import picture_rows
from avocet.work.labels.states import LABELLED
from avocet.work.progress import Stopped
from avocet.work.project.projects import get_project


def export_record(session: Session, project_id: int) -> Record:
    """All labelled pictures of a project as a record; those in progress are left out as well."""
    classes = list_classes(session, project_id, retired=True)
    rows = picture_rows(
        session,
        [Picture.project_id == project_id, Picture.binned_at.is_(None), Picture.state.in_(LABELLED)],
    )
    names = told_apart([(picture.name, picture.content_hash) for picture in rows])
    used = {box.class_id for picture in rows for box in picture.boxes}
    kept = [each for each in classes if each.retired_at is None or each.id in used]
    index_of = {each.id: index for index, each in enumerate(kept)}
    return Record(
        [each.name for each in kept],
        [
            RecordedPicture(
                name,
                picture.width,
                picture.height,
                [
                    RecordedBox(
                        index_of[box.class_id],
                        box.corners,
                        box.crowd,
                        box.attributes,
                        box.track,
                        origin=box.origin,
                    )
                    for box in picture.boxes
                ],
            )
            for name, picture in zip(names, rows, strict=True)
        ],
    )


def held_now(session: Session, project_id: int, columns: LabelColumns) -> Held:
    """What the labelled pictures of a project hold, counted."""
    labelled = columns.of_pictures(columns.labelled)
    used = set(np.unique(labelled.class_ids).tolist())
    classes = list_classes(session, project_id)
    return Held(
        confirmed_empty=int(columns.in_state(PictureState.EMPTY).sum()),
        in_progress=int(columns.in_state(PictureState.IN_PROGRESS).sum()),
        pictures=len(labelled.picture_ids),
        boxes=len(labelled.owner),
        attributes=_attributes(session, project_id),
        crowds=int(labelled.crowd.sum()),
        tracks=int(labelled.track.sum()),
        between=int((labelled.corners != np.floor(labelled.corners)).any(axis=1).sum()),
        unused=tuple(each.name for each in classes if each.id not in used),
    )


def _attributes(session: Session, project_id: int) -> dict[str, tuple[int, int]]:
    """By name: boxes that have an attribute, and those of them where it is a flag that is set."""
    each = func.json_each(Box.attributes).table_valued("key", "type")
    query = (
        select(each.c.key, func.count(), func.sum(each.c.type == "true"))
        .select_from(Box)
        .join(Picture)
        .join(each, text("1"))
        .where(
            # By the index of the few boxes that have any.
            text("box.attributes <> '{}'"),
            Picture.project_id == project_id,
            Picture.binned_at.is_(None),
            Picture.state.in_(LABELLED),
        )
        .group_by(each.c.key)
    )
    return {
        name: (count, int(flags or 0)) for some in plain_rows(session, query) for name, count, flags in some
    }


def export_labels(task: Task[LabelsToWrite]) -> LabelsWritten:
    """Write all labelled pictures in a format, in the background; an archive where it has many files."""
    form, reporter = format_called(task.given.format), task.reporter
    reporter.progress(0, 3, "Reading the labels")
    with reading(task.sessions)() as session:
        name = get_project(session, task.given.project_id).name
        record = export_record(session, task.given.project_id)
        counts = {
            state: session.scalar(
                select(func.count(Picture.id)).where(
                    Picture.project_id == task.given.project_id,
                    Picture.binned_at.is_(None),
                    Picture.state == state,
                )
            )
            or 0
            for state in (PictureState.EMPTY, PictureState.IN_PROGRESS)
        }
    if reporter.should_stop():
        raise Stopped
    reporter.progress(1, 3, "Writing the file")
    content, suffix = file_of_record(form, record, task.given.table_kind)
    reporter.progress(2, 3, "Writing the file")
    write_bytes(task.folder.export(task.job_id, suffix), content)
    held = replace(
        held_by(record),
        confirmed_empty=counts[PictureState.EMPTY],
        in_progress=counts[PictureState.IN_PROGRESS],
    )
    return LabelsWritten(
        file=f"{safe_name(name)}-{form.key}{suffix}",
        pictures=held.pictures,
        boxes=held.boxes,
        lost=what_is_lost(held, form),
    )


def file_of_record(form: Format, record: Record, table_kind: Any = "corners") -> tuple[bytes, str]:
    """A record as the bytes of one file and its suffix: an archive where the format has many files."""
    files: Iterable[tuple[str, bytes]] = (
        write_table(record, table_kind) if form.key == "csv" else form.write(record)
    )
    if not form.many_files:
        return next(iter(files))[1], form.suffixes[0]
    held = io.BytesIO()
    with zipfile.ZipFile(held, "w", zipfile.ZIP_DEFLATED) as opened:
        for name, content in files:
            opened.writestr(name, content)
    return held.getvalue(), ".zip"
