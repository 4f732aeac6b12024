"""Boxes carried on by what they hold, and objects that a model proposes, against where they truly are."""

from dataclasses import replace

import numpy as np
import pytest

from avocet.core.boxes import iou, iou_of_pairs
from avocet.core.errors import InputError
from avocet.core.tracks.trajectory import trajectory
from avocet.jobs.worker import run_job
from avocet.media.frames import FrameReader
from avocet.store.clip_tables import Standing
from avocet.store.tables import JobState
from avocet.work.clips.carrying import do_carry, start_carrying
from avocet.work.clips.proposing import start_proposing_tracks
from avocet.work.clips.tracks import TrackChange, labels_of_track, save_tracks, tracks_of_clip
from avocet.work.job_givens import BoxToCarry, ToCarry, TracksToPropose
from avocet.work.job_kinds import CARRY
from avocet.work.jobs import get_job
from avocet.work.labels.classes import change_class
from avocet.work.models.chosen import chosen_model, classes_known
from avocet.work.problems import NotFound
from avocet.work.progress import Silent
from avocet.work.use.running.looking import Looker
from tests.conftest import task_of
from tests.ready import add_trained_run
from tests.work.clips.conftest import FRAMES


def carry(data, clip, reporter=None, **order):
    return do_carry(task_of(data, CARRY, reporter or Silent(), clip_id=clip.id, **order))


def box_of(filmed, good, frame):
    return tuple(filmed.within(frame)[0][good].tolist())


def trajectory_of(found):
    return trajectory(found.spans, found.boxes, found.frames)


def right(filmed, good, found):
    made = trajectory_of(found)
    frames = [n for n in range(FRAMES) if made.in_sight([n])[0] and filmed.within(n)[1][good] > 0.6]
    truth = [filmed.within(n)[0][good] for n in frames]
    return iou_of_pairs(made.boxes_at(frames), truth)


@pytest.mark.long
@pytest.mark.slow
def test_several_objects_forwards_and_back(data, clip, filmed):
    goods = filmed.whole_on(20)
    assert len(goods) > 3
    boxes = [{"number": good, "box": box_of(filmed, good, 20)} for good in goods]
    for back in (False, True):
        told = carry(data, clip, frame=20, back=back, boxes=boxes)
        assert [each.number for each in told.objects] == goods and not told.stopped
        for each in told.objects:
            assert right(filmed, each.number, each).mean() > 0.85
            assert len(each.frames) <= 6, "a person corrects few boxes"
            ends = each.spans[0][0] if back else each.spans[-1][1]
            share = filmed.within(ends)[1][each.number]
            assert (
                each.ended == "clip"
                if ends in (0, FRAMES - 1)
                else (each.ended, share < 0.5) == ("left", True)
            )


@pytest.mark.slow
def test_from_both_ends_and_to_a_frame(data, clip, filmed):
    good = next(g for g in filmed.whole_on(5) if g in filmed.whole_on(30))
    start, target = box_of(filmed, good, 5), box_of(filmed, good, 30)
    (pinned,) = carry(
        data, clip, frame=5, to=30, boxes=[{"number": 1, "box": start, "target": target}]
    ).objects
    assert (pinned.ended, pinned.spans, pinned.frames[0], pinned.frames[-1]) == ("there", [(5, 30)], 5, 30)
    assert trajectory_of(pinned).boxes_at([30])[0] == pytest.approx(target, abs=0.01)
    assert right(filmed, good, pinned).mean() > 0.85 and not pinned.unsure
    (onwards,) = carry(data, clip, frame=5, to=12, boxes=[{"number": 1, "box": start}]).objects
    assert onwards.spans == [(5, 12)] and onwards.followed == 7
    # Where the other end is somewhere else altogether, both ways cannot be right.
    other = next(g for g in filmed.whole_on(30) if g != good)
    wrong = {"number": 1, "box": start, "target": box_of(filmed, other, 30)}
    assert carry(data, clip, frame=5, to=30, boxes=[wrong]).objects[0].unsure


@pytest.mark.slow
def test_a_box_that_the_edge_cuts_is_told_once_more_of_it_comes_in(data, clip, filmed):
    frame, good = next(
        (number, good)
        for number in range(FRAMES - 1, 15, -1)
        for good, share in enumerate(filmed.within(number)[1])
        if 0.5 < share < 0.7 and filmed.boxes[number][good][3] > 540
    )
    boxes = [{"number": 1, "box": box_of(filmed, good, frame)}]
    (found,) = carry(data, clip, frame=frame, back=True, boxes=boxes).objects
    assert found.unsure and max(found.unsure) < frame


def test_who_stops_it_gets_what_there_is(data, clip, filmed):
    class StopsAfterTen(Silent):
        seen = 0

        def progress(self, done, total, message=""):
            self.seen = done
            assert total == FRAMES - 1 + 1

        def should_stop(self):
            return self.seen >= 10

    good = filmed.whole_on(0)[0]
    told = carry(data, clip, StopsAfterTen(), frame=0, boxes=[{"number": 1, "box": box_of(filmed, good, 0)}])
    assert told.stopped and told.objects[0].followed == 10


@pytest.mark.parametrize(
    ("order", "words"),
    [
        ({"frame": FRAMES - 1}, "belt.mp4 ends here"),
        ({"frame": 0, "back": True}, "belt.mp4 begins here"),
        ({"frame": 90}, "frames 0 to 39"),
        ({"frame": 3, "to": 90}, "frames 0 to 39"),
    ],
)
def test_where_there_is_nothing_to_follow(data, clip, order, words):
    with pytest.raises(InputError, match=words):
        carry(data, clip, boxes=[{"number": 1, "box": (5, 5, 50, 50)}], **order)


def test_nothing_to_carry_is_said_before_it_begins(data, clip):
    box = BoxToCarry(number=1, box=(5, 5, 50, 50))
    with data[1].begin() as session:
        for given, words in (
            (ToCarry(clip_id=clip.id, frame=3, to=3, boxes=[box]), "no frame between"),
            (ToCarry(clip_id=clip.id, frame=3, boxes=[]), "no box is selected"),
            (
                ToCarry(clip_id=clip.id, frame=3, boxes=[BoxToCarry(number=4, box=(9, 9, 9, 20))]),
                "box of object 4",
            ),
            (
                ToCarry(clip_id=clip.id, frame=3, boxes=[BoxToCarry(number=4, box=(2000, 9, 2010, 20))]),
                "object 4",
            ),
            (
                ToCarry(
                    clip_id=clip.id, frame=3, boxes=[BoxToCarry(number=4, box=(float("nan"), 9, 20, 20))]
                ),
                "object 4",
            ),
        ):
            with pytest.raises(InputError, match=words):
                start_carrying(session, given)
        with pytest.raises(NotFound):
            start_carrying(session, ToCarry(clip_id=99, frame=3, boxes=[box]))


def proposed(data, clip, run_id, **class_map):
    folder, sessions = data
    with sessions.begin() as session:
        given = TracksToPropose(clip_id=clip.id, run_id=run_id, minimum_score=0.3, class_map=class_map)
        job_id = start_proposing_tracks(session, folder, given).id
    run_job(sessions, folder, job_id, lambda *_: None)
    with sessions() as session:
        job = get_job(session, job_id)
        assert job.state == JobState.DONE, job.message
        rows = tracks_of_clip(session, clip.id)
        return job.outcome, {row.number: (row.revision, labels_of_track(row)) for row in rows}


@pytest.mark.slow
def test_a_model_proposes_objects_and_what_was_refused_does_not_come_back(
    data, labelled, clip, class_ids, filmed
):
    folder, sessions = data
    with sessions.begin() as session:
        run = add_trained_run(session, folder, labelled)
    outcome, found = proposed(data, clip, run.id)
    assert outcome["tracks"] == len(found) > 3 and outcome["frames"] == FRAMES
    assert {labels.standing for _, labels in found.values()} == {Standing.PROPOSED}
    assert {each.origin for _, labels in found.values() for each in labels.sets} == {f"run {run.id}"}
    # They lie on goods.
    overlaps = []
    for _, labels in found.values():
        frame = (labels.spans[0][0] + labels.spans[0][1]) // 2
        overlaps.append(iou(labels.trajectory().boxes_at([frame]), filmed.within(frame)[0]).max())
    assert np.mean(np.array(overlaps) > 0.5) > 0.7
    # One is refused, one kept, the rest waits: asked again, only what waits is proposed anew.
    refused, kept = sorted(found, key=lambda n: -(found[n][1].spans[-1][1] - found[n][1].spans[0][0]))[:2]
    with sessions.begin() as session:
        changes = []
        for number, standing in ((refused, Standing.REFUSED), (kept, Standing.KEPT)):
            revision, labels = found[number]
            changes.append(TrackChange(number, revision, replace(labels, standing=standing)))
        save_tracks(session, clip, FRAMES, changes)
    again, after = proposed(data, clip, run.id)
    assert again["known"] >= 2 and again["tracks"] + again["known"] == outcome["tracks"]
    assert after[refused][1].standing == Standing.REFUSED and after[kept][1].standing == Standing.KEPT
    standing = [labels.standing for _, labels in after.values()]
    assert standing.count(Standing.PROPOSED) == again["tracks"]


@pytest.mark.slow
def test_classes_that_the_project_has_under_another_name_or_not_at_all(data, labelled, clip, class_ids):
    folder, sessions = data
    with sessions.begin() as session:
        run = add_trained_run(session, folder, labelled)
        run.facts = {**run.facts, "classes": list(class_ids)}
        model = chosen_model(session, folder, run.id, None)
        assert classes_known(session, model) == list(class_ids)
    found = proposed(data, clip, run.id)[1].values()
    kinds = {labels.class_id for _, labels in found}
    assert len(kinds) > 1
    common = max(kinds, key=lambda kind: sum(labels.class_id == kind for _, labels in found))
    name = next(each for each, number in class_ids.items() if number == common)
    with sessions.begin() as session:
        change_class(session, labelled, common, "bun", None)
    without = proposed(data, clip, run.id)[1].values()
    assert common not in {labels.class_id for _, labels in without} and len(without) < len(found)
    again = proposed(data, clip, run.id, **{name: "bun"})[1].values()
    assert sorted(labels.class_id for _, labels in again) == sorted(labels.class_id for _, labels in found)
    with (
        sessions.begin() as session,
        pytest.raises(InputError, match="cannot become 'cake', which the project"),
    ):
        given = TracksToPropose(clip_id=clip.id, run_id=run.id, class_map={name: "cake"})
        start_proposing_tracks(session, folder, given)


@pytest.mark.slow
def test_on_a_damaged_frame_a_model_is_not_asked(data, labelled, clip, class_ids, monkeypatch):
    folder, sessions = data
    with sessions.begin() as session:
        run = add_trained_run(session, folder, labelled)
    whole = proposed(data, clip, run.id)[1].values()
    read, asked = FrameReader.readable, []
    damaged = set(range(12, 18))
    monkeypatch.setattr(FrameReader, "readable", lambda reader, n: None if n in damaged else read(reader, n))
    look = Looker.look
    monkeypatch.setattr(Looker, "look", lambda own, some: asked.append(len(some)) or look(own, some))
    over = proposed(data, clip, run.id)[1].values()
    assert sum(asked) == FRAMES - len(damaged)
    longest = max((labels for _, labels in over), key=lambda each: each.spans[-1][1] - each.spans[0][0])
    assert longest.spans[0][0] < 12 and longest.spans[-1][1] > 18, (
        "what moves on is the same object behind it"
    )
    assert abs(len(over) - len(whole)) <= 2
