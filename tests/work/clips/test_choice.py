"""How a clip is labelled: a choice that is kept, thins out snapshots, and is changed without loss."""

import pytest
from sqlalchemy import select

from avocet.core.boxes import iou_of_pairs
from avocet.core.errors import InputError
from avocet.jobs.worker import run_job
from avocet.store.clip_tables import Standing
from avocet.store.tables import Clip, JobState, LabelledAs, Picture, PictureState, Snapshot
from avocet.work.clips.carrying import do_carry
from avocet.work.clips.clips import ClipChoice, add_clip, bin_clip, choose, list_clips
from avocet.work.clips.gathering import do_gather
from avocet.work.clips.sampling import pictures_of_clip
from avocet.work.clips.tracks import (
    SetBox,
    TrackChange,
    TrackLabels,
    labels_of_track,
    save_tracks,
    tracks_as_change,
    tracks_of_clip,
)
from avocet.work.clips.written import record_of_clip
from avocet.work.job_givens import ClipFrames, FreezeOrder
from avocet.work.job_kinds import CARRY, FREEZE, GATHER_TRACKS, SAMPLE_CLIP
from avocet.work.jobs import create_job, get_job
from avocet.work.labels.boxes import NewBox, boxes_of, save_labels
from avocet.work.labels.undo import undo_change
from avocet.work.progress import Silent
from avocet.work.snapshots.snapshots import read_snapshot
from tests.conftest import task_of
from tests.work.clips.conftest import FRAMES


def done(data, project_id, kind, order):
    folder, sessions = data
    with sessions.begin() as session:
        job_id = create_job(session, project_id, kind, "Work", order).id
    run_job(sessions, folder, job_id, lambda *_: None)
    with sessions() as session:
        job = get_job(session, job_id)
        return job.state, job.message, job.outcome


def chosen(data, clip, **choice):
    with data[1].begin() as session:
        return choose(session, clip.id, FRAMES, ClipChoice(**choice))


def kept(data, clip):
    with data[1]() as session:
        return [labels_of_track(row) for row in tracks_of_clip(session, clip.id, kept_only=True)]


def draw(data, clip, class_id, **changes):
    labels = TrackLabels(
        class_id, **{"spans": [(0, 39)], "sets": [SetBox(0, (10.0, 20.0, 60.0, 70.0))], **changes}
    )
    with data[1].begin() as session:
        save_tracks(session, session.get(Clip, clip.id), FRAMES, [TrackChange(1, 0, labels)])


def frozen(data, clip, clips=()):
    order = FreezeOrder(project_id=clip.project_id, clips=list(clips))
    state, message, outcome = done(data, clip.project_id, FREEZE, order)
    assert state == JobState.DONE, message
    with data[1]() as session:
        return read_snapshot(data[0], session.get(Snapshot, outcome["snapshot_id"]))


def frames_in(snapshot):
    return sorted(int(each.name[-7:-4]) for each in snapshot.pictures if each.name.startswith("belt-0"))


def test_a_choice_is_kept_and_must_fit_the_clip(data, clip):
    made = chosen(data, clip, labelled_as=LabelledAs.PICTURES, first=4, last=30, differing=0.1)
    assert (made.labelled_as, made.first, made.last, made.per_second, made.differing) == (
        LabelledAs.PICTURES, 4, 30, None, 0.1,
    )  # fmt: skip
    for first, last in ((5, 4), (0, 40), (-1, 3)):
        with pytest.raises(InputError, match=f"frames 0 to 39, not {first} to {last}"):
            chosen(data, clip, labelled_as=LabelledAs.OBJECTS, first=first, last=last)


def test_who_draws_an_object_has_chosen_objects(data, clip, class_ids):
    draw(data, clip, class_ids["roll"], standing=Standing.PROPOSED)
    with data[1]() as session:
        assert session.get(Clip, clip.id).labelled_as is None, "a model has not"
        session.delete(tracks_of_clip(session, clip.id)[0])
        session.commit()
    draw(data, clip, class_ids["roll"])
    with data[1]() as session:
        made = session.get(Clip, clip.id)
    assert (made.labelled_as, made.per_second) == (LabelledAs.OBJECTS, 2.0)


def test_in_the_bin_it_is_listed_only_there_and_adding_it_again_restores_it(data, clip, belt_file):
    folder, sessions = data
    with sessions.begin() as session:
        bin_clip(session, clip.id, True)
    with sessions() as session:
        assert not list_clips(session, clip.project_id)
        assert [each.id for each in list_clips(session, clip.project_id, binned=True)] == [clip.id]
    with sessions.begin() as session:
        assert add_clip(session, folder, clip.project_id, belt_file, "belt.mp4").id == clip.id
    with sessions() as session:
        assert [each.id for each in list_clips(session, clip.project_id)] == [clip.id]


@pytest.mark.slow
def test_a_snapshot_takes_the_frames_that_a_clip_is_thinned_out_to(data, clip, class_ids):
    draw(data, clip, class_ids["roll"])
    before = len(frozen(data, clip).pictures)
    # At two a second of twenty-five: every twelfth or thirteenth, with the box of the object.
    found = frozen(data, clip, [clip.id])
    assert frames_in(found) == [0, 12, 25, 37] and len(found.pictures) == before + 4
    taken = [each for each in found.pictures if each.name.startswith("belt-0")]
    assert all([box.corners for box in each.boxes] == [(10, 20, 60, 70)] for each in taken)
    # Another choice takes others, and leaves out those that are there from before.
    chosen(data, clip, labelled_as=LabelledAs.OBJECTS, first=10, last=30, per_second=5)
    assert frames_in(frozen(data, clip, [clip.id])) == [10, 15, 20, 25, 30]
    assert frames_in(frozen(data, clip)) == [0, 10, 12, 15, 20, 25, 30, 37], "where nobody asks, all count"
    # The same labels give the same snapshot.
    assert frozen(data, clip, [clip.id]) == frozen(data, clip, [clip.id])


@pytest.mark.slow
def test_a_clip_of_pictures_is_thinned_out_but_gives_no_new_ones(data, clip, class_ids):
    sessions = data[1]
    done(data, clip.project_id, SAMPLE_CLIP, ClipFrames(clip_id=clip.id, per_second=12.5))
    with sessions.begin() as session:
        for frame, number in pictures_of_clip(session, clip.id).items():
            picture = session.get(Picture, number)
            if frame < 20:
                box = NewBox(class_ids["roll"], (10, 20, 60, 70))
                save_labels(session, picture, picture.revision, [box], PictureState.DONE)
    assert frames_in(frozen(data, clip)) == list(range(0, 20, 2))
    order = FreezeOrder(project_id=clip.project_id, clips=[clip.id])
    state, message, _ = done(data, clip.project_id, FREEZE, order)
    assert state == JobState.FAILED and "choose first how belt.mp4 is labelled" in message
    chosen(data, clip, labelled_as=LabelledAs.PICTURES, per_second=25 / 6)
    assert frames_in(frozen(data, clip, [clip.id])) == [0, 6, 12, 18]
    with sessions() as session:
        assert len(pictures_of_clip(session, clip.id)) == 20


def test_only_the_stretch_that_counts_is_written_and_followed(data, clip, class_ids, filmed):
    draw(data, clip, class_ids["roll"])
    chosen(data, clip, labelled_as=LabelledAs.OBJECTS, first=5, last=20)
    with data[1]() as session:
        record = record_of_clip(session, session.get(Clip, clip.id), FRAMES, every=5)
    assert [each.name for each in record.pictures] == [f"belt-{n:06d}.png" for n in (5, 10, 15, 20)]
    good = next(each for each in filmed.whole_on(8) if each in filmed.whole_on(22))
    boxes = [{"number": 1, "box": tuple(filmed.within(8)[0][good].tolist())}]
    told = do_carry(task_of(data, CARRY, Silent(), clip_id=clip.id, frame=8, boxes=boxes))
    assert told.objects[0].spans == [(8, 20)]


def label(data, clip, class_ids, filmed, frames, skipped=()):
    """Boxes of all whole goods on some frames, as single pictures."""
    done(data, clip.project_id, SAMPLE_CLIP, ClipFrames(clip_id=clip.id))
    with data[1].begin() as session:
        pictures = pictures_of_clip(session, clip.id)
        for frame in frames:
            picture = session.get(Picture, pictures[frame])
            boxes = [
                NewBox(class_ids[filmed.names[good]], tuple(filmed.within(frame)[0][good].tolist()))
                for good in filmed.whole_on(frame)
                if (frame, good) not in skipped
            ]
            save_labels(session, picture, picture.revision, boxes, PictureState.DONE)


def gather(data, clip):
    return do_gather(task_of(data, GATHER_TRACKS, Silent(), clip_id=clip.id))


@pytest.mark.long
@pytest.mark.slow
def test_boxes_on_pictures_become_the_objects_that_they_are(data, clip, class_ids, filmed):
    sessions = data[1]
    frames = (2, 12, 22)
    chosen(data, clip, labelled_as=LabelledAs.PICTURES)
    label(data, clip, class_ids, filmed, frames)
    goods = {good for frame in frames for good in filmed.whole_on(frame)}
    told = gather(data, clip)
    assert (told.tracks, told.known, told.pictures) == (len(goods), 0, 3)
    made = kept(data, clip)
    used = set()
    for each in made:
        drawn = [box for box in each.sets if box.origin == "hand"]
        frame = drawn[0].frame
        (good,) = [
            good
            for good in filmed.whole_on(frame)
            if drawn[0].corners == pytest.approx(tuple(filmed.within(frame)[0][good].tolist()))
        ]
        assert good not in used and each.class_id == class_ids[filmed.names[good]]
        used.add(good)
        wanted = [n for n in frames if good in filmed.whole_on(n)]
        assert [box.frame for box in drawn] == wanted, "every box that was drawn, and no other good's"
        between = list(range(wanted[0], wanted[-1] + 1))
        assert each.trajectory().in_sight(between).all()
        right = iou_of_pairs(
            each.trajectory().boxes_at(between), [filmed.within(n)[0][good] for n in between]
        )
        assert right.min() > 0.8
    assert used == goods
    with sessions() as session:
        assert session.get(Clip, clip.id).labelled_as == LabelledAs.OBJECTS
        picture = session.get(Picture, pictures_of_clip(session, clip.id)[2])
        assert [box.track for box in boxes_of(picture)] == [None] * len(filmed.whole_on(2)), "pictures stay"
    # What is an object already does not become one twice; and all of it goes back.
    assert gather(data, clip).tracks == 0
    undo_change(sessions, clip.project_id, told.change_id)
    assert not kept(data, clip)


@pytest.mark.long
@pytest.mark.slow
def test_where_one_is_not_drawn_an_object_ends_and_another_begins(data, clip, class_ids, filmed):
    good = next(each for each in filmed.whole_on(2) if each in filmed.whole_on(22))
    label(data, clip, class_ids, filmed, (2, 12, 22), skipped={(12, good)})
    gather(data, clip)
    box = tuple(filmed.within(2)[0][good].tolist())
    (first,) = [each for each in kept(data, clip) if each.sets[0].corners == pytest.approx(box)]
    assert first.spans == [(2, 2)]


def test_a_clip_without_boxes_on_pictures_has_nothing_to_gather(data, clip):
    with pytest.raises(InputError, match=r"no box is drawn on a picture of belt\.mp4"):
        gather(data, clip)


def test_objects_of_a_file_go_with_its_undo_unless_they_were_worked_on(data, clip, class_ids):
    sessions = data[1]
    some = [
        TrackLabels(class_ids["roll"], [(0, 9)], [SetBox(0, (10.0 * n, 0.0, 10.0 * n + 9, 9.0))])
        for n in range(3)
    ]
    with sessions.begin() as session:
        change = tracks_as_change(session, session.get(Clip, clip.id), FRAMES, some, "Objects of a file")
    with sessions.begin() as session:
        corrected = TrackLabels(class_ids["ring"], [(0, 9)], [SetBox(0, (1.0, 2.0, 30.0, 40.0))])
        save_tracks(session, session.get(Clip, clip.id), FRAMES, [TrackChange(2, 1, corrected)])
    undo_change(sessions, clip.project_id, change)
    assert [each.class_id for each in kept(data, clip)] == [class_ids["ring"]]


@pytest.mark.slow
def test_a_clip_removed_while_it_is_read_is_said_by_name(data, clip, class_ids, filmed):
    """Its file, in the midst of work on it; and its record, between being asked for and being read."""
    folder, sessions = data
    draw(data, clip, class_ids["roll"])
    path = folder.clip(clip.project_id, clip.content_hash, clip.suffix)
    away = path.with_suffix(".away")

    class TakeAway(Silent):
        def progress(self, done, total, message=""):
            if path.exists():
                path.rename(away)

    box = tuple(filmed.within(5)[0][filmed.whole_on(5)[0]].tolist())
    given = {"clip_id": clip.id, "frame": 5, "boxes": [{"number": 1, "box": box}]}
    told = do_carry(task_of(data, CARRY, TakeAway(), **given))
    assert told.objects[0].spans[0][0] == 5, "what is open is read to its end"
    order = ClipFrames(clip_id=clip.id)
    state, message, _ = done(data, clip.project_id, SAMPLE_CLIP, order)
    assert (state, message) == (JobState.FAILED, "the file of belt.mp4 is gone")
    assert len(kept(data, clip)) == 1, "its objects are there"
    away.rename(path)
    assert done(data, clip.project_id, SAMPLE_CLIP, order)[0] == JobState.DONE
    with sessions.begin() as session:
        session.delete(session.get(Clip, clip.id))
    state, message, _ = done(data, clip.project_id, SAMPLE_CLIP, order)
    assert state == JobState.FAILED and f"no clip {clip.id}" in message
    with sessions() as session:
        taken = session.scalars(select(Picture).where(Picture.name.startswith("belt-0"))).all()
        assert len(taken) == FRAMES and all(each.clip_id is None for each in taken), "its pictures stay"
