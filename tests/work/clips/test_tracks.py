"""Objects of a clip: saved without overwriting anybody, read from files, written to them, given to pictures."""

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from avocet.core.errors import InputError
from avocet.jobs.worker import run_job
from avocet.store.clip_tables import ClipTrack, Standing
from avocet.store.tables import Clip, JobState, Picture, PictureState
from avocet.work.clips.frames import frames_of_clip
from avocet.work.clips.labour import time_on_clip
from avocet.work.clips.sampling import pictures_of_clip, sampled_frames
from avocet.work.clips.tracks import (
    SetBox,
    TrackChange,
    TrackLabels,
    labels_of_track,
    save_tracks,
    tracks_of_clip,
)
from avocet.work.job_givens import ClipFrames, TracksToTake, TracksToWrite
from avocet.work.job_kinds import SAMPLE_CLIP, TAKE_TRACKS, WRITE_TRACKS
from avocet.work.jobs import create_job, get_job
from avocet.work.labels.boxes import NewBox, boxes_of, save_labels
from avocet.work.labels.changes import latest_changes
from avocet.work.labels.class_merge import merge_class
from avocet.work.labels.classes import add_one, list_classes
from avocet.work.labels.undo import undo_change
from avocet.work.pictures.staging import stage
from avocet.work.problems import Conflict
from tests.work.clips.conftest import FRAMES


def track(class_id, **changes):
    known = {
        "spans": [(2, 20), (26, 30)],
        "sets": [SetBox(2, (10, 20, 60, 70)), SetBox(12, (110, 20, 160, 70)), SetBox(30, (290, 20, 340, 70))],
    }
    return TrackLabels(class_id, **{**known, **changes})


def save(data, clip, *changes):
    with data[1].begin() as session:
        return save_tracks(session, session.get(Clip, clip.id), FRAMES, changes)


def there(data, clip):
    with data[1]() as session:
        return {row.number: (row.revision, labels_of_track(row)) for row in tracks_of_clip(session, clip.id)}


def done(data, job_id):
    folder, sessions = data
    run_job(sessions, folder, job_id, lambda *_: None)
    with sessions() as session:
        job = get_job(session, job_id)
        return job.state, job.message, job.outcome


def start(data, clip, kind, title, order):
    with data[1].begin() as session:
        return create_job(session, clip.project_id, kind, title, order).id


@pytest.mark.slow
def test_saved_as_they_are_and_only_on_what_was_seen(data, clip, class_ids):
    roll, ring = class_ids["roll"], class_ids["ring"]
    save(data, clip, TrackChange(1, 0, track(roll)), TrackChange(2, 0, track(ring)))
    assert there(data, clip) == {1: (1, track(roll)), 2: (1, track(ring))}
    held = track(roll, sets=[SetBox(4, (0, 0, 9, 9), held=True)], unsure=[7, 5, 99])
    save(data, clip, TrackChange(1, 1, held))
    assert there(data, clip)[1] == (2, track(roll, sets=held.sets, unsure=[5, 7]))
    # Another tab has seen neither the first object's new version nor that the second is gone.
    save(data, clip, TrackChange(2, 1, None))
    for number, revision in ((1, 1), (2, 1)):
        with pytest.raises(Conflict, match=f"object {number} of belt.mp4 was changed elsewhere") as caught:
            save(data, clip, TrackChange(3, 0, track(ring)), TrackChange(number, revision, track(ring)))
        assert [each["number"] for each in caught.value.current["tracks"]] == [1]
    assert set(there(data, clip)) == {1}, "all or none"
    with pytest.raises(Conflict):
        save(data, clip, TrackChange(1, 0, track(ring)))
    save(data, clip, TrackChange(2, 1, None))
    assert set(there(data, clip)) == {1}, "what is gone already may be removed again"


def test_an_object_keeps_what_tells_it_from_others_whatever_its_number(data, clip, class_ids):
    roll = class_ids["roll"]

    def uids():
        return {number: labels.uid for number, (_, labels) in there(data, clip).items()}

    save(data, clip, TrackChange(1, 0, track(roll)), TrackChange(2, 0, track(roll, uid="ab12")))
    given = uids()
    assert given[2] == "ab12" and len(given[1]) == 32
    save(data, clip, TrackChange(1, 1, track(roll, unsure=[3])), TrackChange(2, 1, track(roll, uid="ab12")))
    assert uids() == given, "who says nothing of it changes nothing"
    save(data, clip, TrackChange(1, 2, None))
    save(data, clip, TrackChange(1, 0, track(roll)))
    assert len({*uids().values(), *given.values()}) == 3, "the number again, but another object"


def test_what_proposals_save_is_told_from_objects_drawn_by_hand(data, clip, class_ids):
    roll = class_ids["roll"]

    def worked(seconds, *changes):
        with data[1].begin() as session:
            mine = session.get(Clip, clip.id)
            save_tracks(session, mine, FRAMES, changes, seconds)
            return time_on_clip(session, mine)

    assert worked(80, *(TrackChange(each, 0, track(roll)) for each in range(1, 5))) == (None, 4)
    imported = [SetBox(4, (0, 0, 9, 9), origin="imported")]
    assert worked(500, TrackChange(90, 0, track(roll, sets=imported))) == (None, 4), "nobody drew that one"
    proposed = {each: track(roll, model="run 3", standing=Standing.PROPOSED) for each in range(11, 14)}
    worked(0, *(TrackChange(each, 0, labels) for each, labels in proposed.items()))
    assert worked(20, TrackChange(5, 0, track(roll))) == (None, 5), "what waits says nothing yet"
    worked(6, *(TrackChange(each, 1, track(roll, model="run 3")) for each in (11, 12)))
    refused = track(roll, model="run 3", standing=Standing.REFUSED)
    saved, _ = worked(4, TrackChange(13, 1, refused))
    # Two objects at 20 s each would have been 40 s; looking at three proposals took 10 s.
    assert (saved.saved, saved.by_hand, saved.taken) == pytest.approx((30, 20, 10))
    corrected = track(roll, model="run 3", sets=[SetBox(2, (0, 0, 9, 9))])
    saved, _ = worked(12, TrackChange(12, 2, corrected))
    assert saved.saved == pytest.approx(18), "the time of a correction counts as well"


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"sets": []}, "at least one box"),
        ({"sets": [SetBox(40, (0, 0, 9, 9))]}, "box on frame 40; the clip has 0 to 39"),
        ({"sets": [SetBox(1, (0, 0, 0, 9))]}, "on frame 1"),
        ({"sets": [SetBox(1, (float("nan"), 0, 5, 9))]}, "on frame 1"),
        ({"sets": [SetBox(1, (2000, 0, 2005, 9))]}, "on frame 1"),
        ({"sets": [SetBox(5, (0, 0, 9, 9)), SetBox(5, (0, 0, 9, 9))]}, "must rise"),
        ({"spans": []}, "in sight on no frame"),
        ({"spans": [(5, 3)]}, "in sight from 5 to 3"),
        ({"spans": [(0, 40)]}, "in sight from 0 to 40"),
        ({"spans": [(0, 5), (6, 9)]}, "must rise and not touch"),
        ({"class_id": 9999}, "class 9999, which is not here"),
        ({"attributes": [(3, {"burnt": [1]})]}, "cannot keep the attribute 'burnt'"),
    ],
)
def test_what_cannot_be_kept_is_refused_with_its_name(data, clip, class_ids, changes, words):
    chosen = {"class_id": class_ids["roll"], **changes}
    with pytest.raises(InputError, match=words) as caught:
        save(data, clip, TrackChange(1, 0, track(**chosen)))
    assert "object 1 of belt.mp4" in str(caught.value)
    assert not there(data, clip)


@given(st.lists(st.floats(0.005, 0.5), min_size=2, max_size=80), st.floats(0.1, 70))
def test_so_many_frames_a_second(steps, per_second):
    """At most one frame for each slot of time, and one for each that has a frame, whatever the rate does."""
    import numpy as np

    seconds = np.cumsum(steps)
    chosen = sampled_frames(seconds, per_second, 0, len(steps) - 1)
    slack = 0.5 * float(np.median(np.diff(seconds)))
    slots = np.floor((seconds - seconds[0] + slack) * per_second)
    assert chosen == sorted(set(chosen)) and chosen[0] == 0
    assert [slots[each] for each in chosen] == sorted(set(slots.tolist()))


def written(data, clip, form, every=1):
    job_id = start(
        data, clip, WRITE_TRACKS, "Export", TracksToWrite(clip_id=clip.id, format=form, every=every)
    )
    state, message, outcome = done(data, job_id)
    assert state == JobState.DONE, message
    suffix = "." + outcome["file"].rpartition(".")[2]
    return data[0].export(job_id, suffix).read_bytes(), outcome


def taken(data, clip, name, content):
    sent = data[0].root / "sent"
    sent.write_bytes(content)
    order = TracksToTake(clip_id=clip.id, token=stage(data[0], [(sent, name)]))
    return done(data, start(data, clip, TAKE_TRACKS, "Take", order))


@pytest.mark.parametrize("form", ["coco", "csv", "json-lines"])
@pytest.mark.parametrize("every", [1, 2])
def test_written_and_read_back_they_are_where_they_were(data, clip, class_ids, form, every):
    attributes = [(0, {"burnt": True}), (14, {})] if form != "csv" else []
    first = track(class_ids["roll"], attributes=attributes)
    second = track(class_ids["ring"], spans=[(0, 39)], sets=[SetBox(0, (300.5, 9, 380, 80))])
    proposed = track(class_ids["ring"], standing=Standing.PROPOSED)
    save(data, clip, *(TrackChange(n, 0, each) for n, each in enumerate((first, second, proposed), start=1)))
    content, outcome = written(data, clip, form, every)
    assert outcome["pictures"] == FRAMES // every and not [
        each for each in outcome["lost"] if "track" in each
    ]
    save(data, clip, *(TrackChange(number, 1, None) for number in (1, 2, 3)))
    state, message, outcome = taken(
        data, clip, f"labels.{form.replace('json-lines', 'jsonl')}".replace("coco", "json"), content
    )
    assert state == JobState.DONE, message
    assert outcome["tracks"] == 2 and not outcome["left_out"]
    back = sorted((labels for _, labels in there(data, clip).values()), key=lambda each: len(each.spans))
    frames = list(range(0, FRAMES, every))
    for was, now in zip((second, first), back, strict=True):
        seen = was.trajectory().in_sight(frames)
        assert now.class_id == was.class_id and now.trajectory().in_sight(frames).tolist() == seen.tolist()
        boxes, again = was.trajectory().boxes_at(frames)[seen], now.trajectory().boxes_at(frames)[seen]
        assert abs(boxes - again).max() < 0.05
        assert [now.attributes_at(f) for f in frames] == [
            was.attributes_at(f) if s else now.attributes_at(f) for f, s in zip(frames, seen, strict=True)
        ]
        assert len(now.sets) <= len(was.sets) + 2, "what lies between set boxes is not set anew"
        assert {each.origin for each in now.sets} == {"imported"}


def test_formats_without_tracks_say_so_and_files_without_tracks_are_refused(data, clip, class_ids):
    save(data, clip, TrackChange(1, 0, track(class_ids["roll"])))
    content, outcome = written(data, clip, "voc")
    assert content[:2] == b"PK" and any("track of 24 boxes" in each for each in outcome["lost"])
    coco = json.loads(written(data, clip, "coco")[0])
    assert {each["track_id"] for each in coco["annotations"]} == {1}
    for each in coco["annotations"]:
        del each["track_id"]
    state, message, _ = taken(data, clip, "labels.json", json.dumps(coco).encode())
    assert state == JobState.FAILED and "no box with a track" in message
    coco["images"] = [{**each, "file_name": f"other-{each['id'] + 100}.png"} for each in coco["images"]]
    state, message, _ = taken(data, clip, "labels.json", json.dumps(coco).encode())
    assert state == JobState.FAILED and "is no frame of belt.mp4" in message


def test_a_clip_without_objects_is_not_exported(data, clip):
    job_id = start(data, clip, WRITE_TRACKS, "Export", TracksToWrite(clip_id=clip.id, format="coco"))
    state, message, _ = done(data, job_id)
    assert state == JobState.FAILED and "no labelled object" in message


def sample(data, clip, **order):
    job_id = start(data, clip, SAMPLE_CLIP, "Take frames", ClipFrames(clip_id=clip.id, **order))
    state, message, outcome = done(data, job_id)
    assert state == JobState.DONE, message
    return outcome


def labels_by_frame(data, clip):
    with data[1]() as session:
        return {
            frame: (session.get(Picture, number).state, boxes_of(session.get(Picture, number)))
            for frame, number in pictures_of_clip(session, clip.id).items()
        }


@pytest.mark.slow
def test_frames_become_pictures_with_the_boxes_of_the_tracks(data, clip, class_ids, filmed):
    _, sessions = data
    save(data, clip, TrackChange(5, 0, track(class_ids["roll"], attributes=[(12, {"burnt": True})])))
    assert sample(data, clip, per_second=2.5) == {"added": 4, "already_there": 0, "boxes": 3}
    found = labels_by_frame(data, clip)
    assert {frame: state for frame, (state, _) in found.items()} == {
        0: PictureState.UNLABELLED, 10: PictureState.IN_PROGRESS, 20: PictureState.IN_PROGRESS,
        30: PictureState.IN_PROGRESS,
    }  # fmt: skip
    assert found[10][1] == [NewBox(class_ids["roll"], (90, 20, 140, 70), track=5)]
    assert found[20][1][0].attributes == {"burnt": True}
    # A person draws one more box on a frame; then the object is corrected, and all is said to be labelled.
    with sessions.begin() as session:
        picture = session.get(Picture, pictures_of_clip(session, clip.id)[30])
        by_hand = [*boxes_of(picture), NewBox(class_ids["ring"], (400, 100, 450, 150))]
        save_labels(session, picture, picture.revision, by_hand, PictureState.DONE)
    moved = track(class_ids["roll"], sets=[SetBox(2, (10, 120, 60, 170))])
    save(data, clip, TrackChange(5, 1, moved))
    outcome = sample(data, clip, per_second=2.5, finished=True)
    assert (outcome["added"], outcome["already_there"]) == (0, 4)
    found = labels_by_frame(data, clip)
    assert found[0] == (PictureState.EMPTY, [])
    assert found[10] == (PictureState.DONE, [NewBox(class_ids["roll"], (10, 120, 60, 170), track=5)])
    assert [box.corners for box in found[30][1]] == [(290, 20, 340, 70), (400, 100, 450, 150)], (
        "as it was drawn"
    )
    # The way back.
    with sessions() as session:
        change = latest_changes(session, clip.project_id)[0]
    assert change.title == "Boxes of belt.mp4 on its pictures"
    undo_change(sessions, clip.project_id, change.id)
    assert labels_by_frame(data, clip)[10][1] == [NewBox(class_ids["roll"], (90, 20, 140, 70), track=5)]
    # Nothing to change is no change.
    sample(data, clip, per_second=2.5)
    before = len(latest_changes(sessions(), clip.project_id))
    sample(data, clip, per_second=2.5)
    assert len(latest_changes(sessions(), clip.project_id)) == before


@pytest.mark.slow
def test_only_frames_that_differ_and_only_from_here_to_there(data, clip):
    outcome = sample(data, clip, differing=0.08, first=5, last=30)
    frames = sorted(labels_by_frame(data, clip))
    assert frames[0] == 5 and frames[-1] <= 30 and 2 <= len(frames) < 20 and outcome["added"] == len(frames)
    job_id = start(data, clip, SAMPLE_CLIP, "Take", ClipFrames(clip_id=clip.id, first=30, last=44))
    assert "frames 0 to 39, not 30 to 44" in done(data, job_id)[1]


@pytest.mark.slow
def test_frames_are_kept_exactly(data, clip):
    import numpy as np
    from PIL import Image

    from avocet.media.clips import read_frames
    from avocet.work.pictures.files import picture_path

    sample(data, clip, per_second=1)
    with data[1]() as session:
        number = pictures_of_clip(session, clip.id)[25]
        path = picture_path(data[0], session.get(Picture, number))
    source = data[0].clip(clip.project_id, clip.content_hash, clip.suffix)
    frame = next(each for each in read_frames(source) if each.number == 25)
    assert np.array_equal(np.asarray(Image.open(path)), frame.pixels)


def test_a_removed_clip_takes_its_tracks_along_and_what_frames_it_has_is_found_again(data, clip, class_ids):
    folder, sessions = data
    save(data, clip, TrackChange(1, 0, track(class_ids["roll"])))
    kept = folder.clip_frames(clip.project_id, clip.content_hash)
    content = kept.read_bytes()
    for broken in (b"half a file", b"", content[: len(content) // 2], content[:-10]):
        kept.write_bytes(broken)
        assert len(frames_of_clip(folder, clip)) == FRAMES
    with sessions.begin() as session:
        session.delete(session.get(Clip, clip.id))
    with sessions() as session:
        assert not session.query(ClipTrack).count()


def test_objects_follow_their_class_when_it_is_merged_and_come_back(data, clip, class_ids):
    _, sessions = data
    roll, ring = class_ids["roll"], class_ids["ring"]
    save(
        data,
        clip,
        TrackChange(1, 0, track(roll)),
        TrackChange(2, 0, track(roll)),
        TrackChange(3, 0, track(ring)),
    )
    made = merge_class(sessions, clip.project_id, roll, ring)
    assert {number: labels.class_id for number, (_, labels) in there(data, clip).items()} == {
        1: ring,
        2: ring,
        3: ring,
    }
    # A page that does not know of it saves objects with the class of before.
    save(data, clip, TrackChange(3, 1, track(roll)), TrackChange(4, 0, track(roll)))
    assert {there(data, clip)[number][1].class_id for number in (3, 4)} == {ring}
    save(data, clip, TrackChange(4, 1, None))
    # One that somebody gave another class since stays.
    save(data, clip, TrackChange(2, 2, track(class_ids["loaf"])))
    undo_change(sessions, clip.project_id, made.change_id)
    found = there(data, clip)
    assert [found[number][1].class_id for number in (1, 2, 3)] == [roll, class_ids["loaf"], ring]
    assert found[1][0] == 3, "who has it open learns of it"
    # A class that only an object has is not deleted with the change that added it.
    with sessions.begin() as session:
        change = add_one(session, clip.project_id, "bun")
        bun = next(each.id for each in list_classes(session, clip.project_id) if each.name == "bun")
    save(data, clip, TrackChange(4, 0, track(bun)))
    undo_change(sessions, clip.project_id, change.id)
    assert there(data, clip)[4][1].class_id == bun
