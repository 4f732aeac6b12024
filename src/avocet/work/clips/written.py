"""The objects of a clip written to a file: with their numbers where a format holds them, else a box a frame."""

from sqlalchemy.orm import Session

from avocet.core.errors import InputError
from avocet.files import safe_name, write_bytes
from avocet.formats.kinds import format_called, held_by, what_is_lost
from avocet.formats.record import Record, RecordedBox, RecordedPicture
from avocet.store.database import reading
from avocet.store.tables import Clip
from avocet.work.clips.clips import frame_name, get_clip, stretch
from avocet.work.clips.frames import frames_of_clip
from avocet.work.clips.sampling import boxes_on
from avocet.work.clips.tracks import labels_of_track, tracks_of_clip
from avocet.work.exchange.written import file_of_record
from avocet.work.job_givens import TracksToWrite
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import LabelsWritten
from avocet.work.labels.classes import list_classes
from avocet.work.progress import Stopped


def record_of_clip(session: Session, clip: Clip, frames: int, every: int = 1) -> Record:
    """Every so-many-th frame of a clip as a picture with the boxes of the objects that are in sight.

    Only the stretch that counts is told.

    Raises
    ------
    InputError
        If the clip has no labelled object.
    """
    tracks = {row.number: labels_of_track(row) for row in tracks_of_clip(session, clip.id, kept_only=True)}
    if not tracks:
        raise InputError(f"{clip.name} has no labelled object")
    used = {each.class_id for each in tracks.values()}
    classes = [
        each
        for each in list_classes(session, clip.project_id, retired=True)
        if each.retired_at is None or each.id in used
    ]
    place = {each.id: number for number, each in enumerate(classes)}
    first, last = stretch(clip, frames)
    boxes = boxes_on(tracks, range(first, last + 1, every))
    return Record(
        [each.name for each in classes],
        [
            RecordedPicture(
                frame_name(clip, frame),
                clip.width,
                clip.height,
                [
                    RecordedBox(
                        place[labels.class_id],
                        corners,
                        attributes=labels.attributes_at(frame),
                        track=number,
                        origin=labels.origin_at(frame),
                    )
                    for number, labels, corners in boxes[frame]
                ],
            )
            for frame in boxes
        ],
    )


def do_write_tracks(task: Task[TracksToWrite]) -> LabelsWritten:
    """Write a clip's objects in a format, in the background."""
    given, reporter = task.given, task.reporter
    form = format_called(given.format)
    with reading(task.sessions)() as session:
        clip = get_clip(session, given.clip_id)
        index = frames_of_clip(task.folder, clip)
        record = record_of_clip(session, clip, len(index), given.every)
    if reporter.should_stop():
        raise Stopped
    reporter.progress(1, 2, "Writing the file")
    content, suffix = file_of_record(form, record)
    write_bytes(task.folder.export(task.job_id, suffix), content)
    held = held_by(record)
    return LabelsWritten(
        file=f"{safe_name(clip.name)}-{form.key}{suffix}",
        pictures=held.pictures,
        boxes=held.boxes,
        lost=what_is_lost(held, form),
    )
