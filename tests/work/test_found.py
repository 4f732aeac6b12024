"""What a detection run has found, looked at with other limits, counted by lines and regions, and collected."""

import csv
import io
import json
import shutil
import threading

import numpy as np
import pytest
from PIL import Image
from sqlalchemy import select

from avocet.core.errors import InputError
from avocet.core.raw.suppression import suppress
from avocet.jobs.worker import run_job
from avocet.media import clips
from avocet.media.clip_writer import ClipWriter
from avocet.media.clips import frame_at, frames_at, read_frames
from avocet.media.pictures import encode_jpeg, encode_png, read_picture
from avocet.store.tables import JobState, Picture, PictureState, Proposal
from avocet.work.clips.frames import OpenClips
from avocet.work.job_givens import FoundToCollect
from avocet.work.job_kinds import COLLECT_FOUND
from avocet.work.jobs import create_job
from avocet.work.problems import NotFound
from avocet.work.progress import Silent
from avocet.work.use import crops_ahead
from avocet.work.use.boxes import box_rows, crop_of, sorted_boxes
from avocet.work.use.collecting import do_collect
from avocet.work.use.counting import Shape, counts_as_csv
from avocet.work.use.crops_ahead import CropsAhead, clips_of_boxes
from avocet.work.use.detections import Source, get_detection, order_of, start_detection
from avocet.work.use.found import clips_of, found_in, pictures_with_boxes, sorted_pictures, timeline
from avocet.work.use.results import count_by, found_by
from avocet.work.use.running.course import Input
from avocet.work.use.running.detect import detect
from avocet.work.use.running.order import DetectionOrder
from tests.conftest import task_of
from tests.ready import add_trained_run
from tests.work.test_use import Scripted, rolling

FRAMES = 12


def boxes_on(number):
    """A roll that moves to the right and a ring that stays, a weak ring, and a second box of the roll."""
    x = 10 + 40 * number
    return [
        *rolling(5 * number, 0.9),
        ([x + 4, 12, x + 64, 72], 0.7, 0),
        ([600, 300, 660, 360], 0.3, 1),
    ]


@pytest.fixture
def run(trained, frames, tmp_path):
    """A run over a picture and a clip, whose boxes are known."""
    folder, sessions, run_id = trained
    with ClipWriter(tmp_path / "belt.mp4", 960, 540, 10) as writer:
        for number in range(FRAMES):
            writer.write(frames[number % 6].pixels)
    (tmp_path / "still.jpg").write_bytes(encode_jpeg(frames[0].pixels))
    shutil.copy(tmp_path / "belt.mp4", tmp_path / "kept.mp4")
    with sessions.begin() as session:
        files = [(tmp_path / "still.jpg", "in/still.jpg"), (tmp_path / "belt.mp4", "in/belt.mp4")]
        detection = start_detection(session, folder, run_id, Source(), {"minimum_score": 0.5}, files)
        detection_id = detection.id
        place = folder.detection(detection.project_id, detection.id)
        inputs = [
            Input(place / "input" / f"{number:06d}{suffix}", name)
            for number, (suffix, name) in enumerate(((".jpg", "in/still.jpg"), (".mp4", "in/belt.mp4")))
        ]
    script = [boxes_on(0)] + [boxes_on(number) for number in range(FRAMES)]
    about = {"classes": list(Scripted.classes)}
    detect(Scripted(script, about), inputs, place, DetectionOrder(minimum_score=0.5, copies="none"), Silent())
    with sessions() as session:
        return folder, sessions, get_detection(session, detection_id), place


def test_what_is_kept_at_other_limits_is_what_suppression_keeps(run):
    folder, _, detection, _ = run
    found = found_by(folder, detection)
    assert [(each.name, each.frame) for each in found.looked] == [("in/still.jpg", -1)] + [
        ("in/belt.mp4", number) for number in range(FRAMES)
    ]
    assert clips_of(found) == [(0, 1, FRAMES)]
    for least, limit in ((0.5, 0.5), (0.3, 0.5), (0.3, 0.9), (0.75, 0.5)):
        kept = found.kept(least, limit)
        for place in range(len(found.looked)):
            given = boxes_on(max(0, place - 1))
            strong = [each for each in given if each[1] >= least]
            boxes, scores, kinds = (np.array(each) for each in zip(*strong, strict=True))
            wanted = suppress(boxes, scores, limit, kinds).kept
            mine = kept[found.owner[kept] == place]
            assert sorted(found.scores[mine].tolist()) == sorted(scores[wanted].tolist())
    assert found.kept().tolist() == found.kept(0.5, 0.5).tolist(), "as the run itself tells"
    assert found.kept(None, 0.9).tolist() == found.kept(0.5, 0.9).tolist(), (
        "its scores with another overlap limit"
    )
    assert {found.classes[each] for each in found.kinds[found.kept(0.3, 0.5, ["ring"])]} == {"ring"}
    with pytest.raises(InputError, match="does not know the class 'cake'"):
        found.kept(0.3, 0.5, ["ring", "cake"])


def test_another_overlap_limit_leaves_scores_by_class(frames, tmp_path):
    """Three boxes on one another of each class: the rings are told from another score on than the rolls."""
    (tmp_path / "still.png").write_bytes(encode_png(frames[0].pixels))
    boxes = [([10, 10, 60, 60], 0.9), ([12, 10, 62, 60], 0.62), ([40, 10, 90, 60], 0.45)]
    script = [[(box, score, kind) for kind in (0, 1) for box, score in boxes]]
    order = DetectionOrder(minimum_score=0.6, minimum_scores={"ring": 0.4}, overlap_limit=0.5)
    about = {"classes": list(Scripted.classes)}
    detect(
        Scripted(script, about),
        [Input(tmp_path / "still.png", "still.png")],
        tmp_path / "out",
        order,
        Silent(),
    )
    found = found_in(tmp_path / "out")

    def told(*limits):
        kept = found.kept(*limits)
        return sorted((found.classes[found.kinds[each]], found.scores[each]) for each in kept)

    assert told() == told(None, 0.5) == [("ring", 0.45), ("ring", 0.9), ("roll", 0.9)]
    every_ring = [("ring", 0.45), ("ring", 0.62), ("ring", 0.9)]
    assert told(None, 0.95) == [*every_ring, ("roll", 0.62), ("roll", 0.9)]
    assert told(0.6, None) == [("ring", 0.9), ("roll", 0.9)]
    assert told(None, 0.95, ["ring"]) == every_ring


def test_what_is_collected_is_what_is_shown(frames, tmp_path, data, labelled, monkeypatch):
    folder, sessions = data
    (tmp_path / "new.png").write_bytes(encode_png(frames[0].pixels[::-1].copy()))
    with sessions.begin() as session:
        run = add_trained_run(session, folder, labelled, "First")
        run.minimum_score, run.minimum_scores = 0.6, {"ring": 0.4}
        detection = start_detection(
            session, folder, run.id, Source(), {}, [(tmp_path / "new.png", "new.png")]
        )
        assert (detection.minimum_score, detection.minimum_scores) == (0.6, {"ring": 0.4})
        place, detection_id = folder.detection(labelled, detection.id), detection.id
        order = order_of(detection)
    boxes = [([10, 10, 60, 60], 0.9), ([12, 10, 62, 60], 0.62), ([40, 10, 90, 60], 0.45)]
    script = [[(box, score, kind) for kind in (0, 1) for box, score in boxes]]
    item = Input(place / "input" / "000000.png", "new.png")
    detect(Scripted(script, {"classes": list(Scripted.classes)}), [item], place, order, Silent())
    for limits in ({}, {"overlap_limit": 0.95}, {"minimum_score": 0.3, "only": ["ring"]}):
        given = {"detection_id": detection_id, "places": [0], **limits}
        do_collect(task_of(data, COLLECT_FOUND, **given))
        found = found_in(place)
        with sessions() as session:
            kept = found.kept(
                limits.get("minimum_score"), limits.get("overlap_limit"), limits.get("only", ())
            )
            proposed = session.execute(select(Proposal.class_name, Proposal.score)).all()
            assert sorted(map(tuple, proposed)) == sorted(
                (found.classes[found.kinds[each]], found.scores[each]) for each in kept
            )


def test_the_numbers_of_objects_are_those_of_the_table(run):
    folder, _, detection, place = run
    found = found_by(folder, detection)
    (row,) = pictures_with_boxes(found, found.kept(None, 0.5), [3])
    assert [(found.classes[kind], number) for kind, number in zip(row["kinds"], row["objects"], strict=True)] == [
        ("roll", 1), ("ring", 2),
    ]  # fmt: skip
    assert row["frame"] == 2 and row["seconds"] == pytest.approx(0.2, abs=0.01)
    told = json.loads((place / "detections.json").read_text())["pictures"][3]["detections"]
    assert [each["object"] for each in told] == row["objects"]


def test_a_timeline_counts_boxes_by_class(run):
    folder, _, detection, _ = run
    found = found_by(folder, detection)
    told = timeline(found, found.kept(0.25, 0.5))
    assert told["pictures"] == FRAMES + 1 and told["bins"] == list(range(FRAMES + 1))
    assert told["counts"] == [[1] * (FRAMES + 1), [2] * (FRAMES + 1)]
    assert told["boxes"] == [FRAMES + 1, 2 * (FRAMES + 1)] and told["empty"] == 0
    nothing = timeline(found, found.kept(0.95, 0.5))
    assert nothing["empty"] == FRAMES + 1 and nothing["pictures_with"] == [0, 0]


def test_pictures_are_sorted_and_filtered(run):
    folder, _, detection, _ = run
    found = found_by(folder, detection)
    weak, strong = found.kept(0.3, 0.5), found.kept(0.95, 0.5)
    assert sorted_pictures(found, weak, "least sure").tolist() == list(range(FRAMES + 1)), (
        "all the same: in order"
    )
    assert sorted_pictures(found, strong, empty=True).tolist() == list(range(FRAMES + 1))
    assert sorted_pictures(found, weak, empty=True).tolist() == []
    only = weak[found.owner[weak] == 4]
    assert sorted_pictures(found, only, "most boxes").tolist()[0] == 4
    assert sorted_pictures(found, only, "surest", with_class="ring").tolist() == [4]
    with pytest.raises(InputError, match="brick"):
        sorted_pictures(found, weak, with_class="brick")


def test_boxes_one_by_one(run):
    """Sorted by score and size, each with its place, and its crop shows what lies there."""
    folder, _, detection, place = run
    found = found_by(folder, detection)
    chosen = found.kept(None, 0.5)
    for order, key in (
        ("least sure", lambda n: found.scores[n]),
        ("surest", lambda n: -found.scores[n]),
        ("smallest", lambda n: np.prod(found.boxes[n][2:] - found.boxes[n][:2])),
        ("largest", lambda n: -np.prod(found.boxes[n][2:] - found.boxes[n][:2])),
    ):
        assert sorted_boxes(found, chosen, order).tolist() == sorted(chosen.tolist(), key=key)
    rings = sorted_boxes(found, chosen, with_class="ring")
    (row,) = box_rows(found, rings[3:4].tolist())
    assert row["class_name"] == "ring" and row["box"] == [300, 200, 360, 260] and row["frame"] == 2
    with pytest.raises(InputError, match="brick"):
        sorted_boxes(found, chosen, with_class="brick")
    still, frame = place / "input" / "000000.jpg", place / "input" / "000001.mp4"
    for number, path, whole in (
        (rings[0], still, read_picture(still)),
        (rings[3], frame, frame_at(frame, 0.2)),
    ):
        # With nine whole pixels around it on each side.
        found.boxes[number] = [300, 200, 350, 250]
        pixels = np.asarray(Image.open(io.BytesIO(crop_of(Input(path, path.name), found, int(number)))))
        there = Image.fromarray(whole[191:259, 291:359])
        expected = np.asarray(there.resize((160, 160), Image.Resampling.BICUBIC))
        assert pixels.shape == (160, 160, 3) and np.abs(pixels.astype(int) - expected).mean() < 2
    with pytest.raises(NotFound, match="no box"):
        crop_of(Input(place / "input" / "000000.jpg", "000000.jpg"), found, len(found.scores))


def test_a_crop_of_all_and_one_at_the_edge(run):
    """As wide as high, whatever the box: what lies beyond the picture is black."""
    folder, _, detection, place = run
    found = found_by(folder, detection)
    for box in ([0, 0, 960, 540], [950, 530, 960, 540]):
        found.boxes[0] = box
        pixels = np.asarray(
            Image.open(io.BytesIO(crop_of(Input(place / "input" / "000000.jpg", "000000.jpg"), found, 0)))
        )
        assert pixels.shape == (160, 160, 3)
        assert pixels[-8:, -8:].max() < 12 and pixels[70:90, 70:90].mean() > 25
    found.boxes[0] = [10, 10, 10, 40]
    with pytest.raises(InputError, match="corners with an area"):
        crop_of(Input(place / "input" / "000000.jpg", "000000.jpg"), found, 0)


def test_counting_over_a_line_and_in_a_region(run):
    folder, _, detection, _ = run
    # The roll's middle moves from 40 to 480 by 40 a frame, at a height of 40.
    line = Shape(kind="line", name="gate", points=[(0.25, 0.5), (0.25, 0.0)], sides=("oven", "shelf"))
    back = Shape(kind="line", points=[(0.25, 0.0), (0.25, 0.5)])
    below = Shape(kind="line", points=[(0.25, 1.0), (0.25, 0.5)])
    region = Shape(kind="region", name="tray", points=[(0.2, 0.0), (0.4, 0.0), (0.4, 0.6), (0.2, 0.6)])
    over, other, missed, inside = count_by(folder, detection, [line, back, below, region])
    assert over["forward"] == {"roll": 1, "ring": 0} and over["back"] == {"roll": 0, "ring": 0}
    (crossing,) = over["crossings"]
    # 240 is passed between frames 5 (at 240 itself) and 6; clear of it on frame 6.
    assert crossing["object"] == 1 and crossing["frame"] == 6 and crossing["place"] == 7
    assert other["back"] == {"roll": 1, "ring": 0} and missed["crossings"] == []
    # The ring lies at 330, 230 all the time; the roll is inside from 192 to 384.
    assert inside["objects"] == {"roll": 1, "ring": 1} and inside["most"] == 2
    rows = list(csv.DictReader(io.StringIO(counts_as_csv([over, inside], "belt.mp4"))))
    assert rows[0]["from"] == "oven" and rows[0]["to"] == "shelf" and len(rows) == 3
    with pytest.raises(NotFound, match="no clip 1"):
        count_by(folder, detection, [line], clip=1)


@pytest.mark.parametrize(
    ("shape", "message"),
    [
        ({"kind": "line", "points": [(0, 0), (0, 0)]}, "different places"),
        ({"kind": "line", "points": [(0, 0), (1, 1), (0, 1)]}, "two ends"),
        ({"kind": "region", "points": [(0, 0), (1, 1)]}, "three corners"),
        ({"kind": "region", "points": [(0, 0), (1, 1), (0, 7)]}, "outside"),
        ({"kind": "line", "points": [(0, 0), (1, 1)], "sides": ("a" * 61, "b")}, "60 letters"),
    ],
)
def test_shapes_that_are_none(shape, message):
    with pytest.raises(ValueError, match=message):
        Shape.model_validate(shape)


def test_a_run_of_an_earlier_version_is_looked_at_too(run):
    """It has a JSON document only, and no objects to count."""
    folder, _, detection, place = run
    before = found_by(folder, detection).kept(None, 0.5)
    for name in ("detections.jsonl", "order.json", "tracks.npz"):
        (place / name).unlink()
    found = found_by(folder, detection)
    assert len(found.kept(None, 0.5)) == len(before) and found.objects.max() == 2
    with pytest.raises(NotFound, match="keeps no objects"):
        count_by(folder, detection, [Shape(kind="line", points=[(0, 0), (1, 1)])])
    (place / "detections.json").write_text("{")
    with pytest.raises(InputError, match="damaged"):
        found_by(folder, detection)
    (place / "detections.json").unlink()
    with pytest.raises(NotFound, match="nothing yet"):
        found_by(folder, detection)


def test_the_frame_at_a_moment_is_the_one_shown_then(run, tmp_path):
    frames = list(read_frames(tmp_path / "kept.mp4"))
    for each in (frames[0], frames[5], frames[-1]):
        for late in (0.0, 0.04):
            shown = frame_at(tmp_path / "kept.mp4", each.seconds + late)
            np.testing.assert_array_equal(shown, each.pixels)
    np.testing.assert_array_equal(frame_at(tmp_path / "kept.mp4", 99), frames[-1].pixels)


@pytest.mark.long
def test_frames_at_hand_are_those_that_are_shown_then(run, tmp_path):
    folder, _, _, _ = run
    path, generator = tmp_path / "kept.mp4", np.random.default_rng(2)
    seconds, at_hand = [each.seconds for each in read_frames(path)], OpenClips(folder)
    for moment in [*generator.choice(seconds, 20), *seconds, seconds[4] + 0.03, seconds[-1] + 9]:
        np.testing.assert_array_equal(at_hand.shown_at(path, moment, "kept.mp4"), frame_at(path, moment))
    path.write_bytes(b"nothing")
    with pytest.raises(InputError, match=r"kept\.mp4 is not a clip"):
        at_hand.shown_at(path, 0.1, "kept.mp4")


@pytest.mark.long
@pytest.mark.parametrize("passed", [0.0, 0.25, 99.0])
def test_frames_at_moments_in_any_order_are_those_at_each(run, tmp_path, monkeypatch, passed):
    """Whether they are sought or decoded in passing."""
    monkeypatch.setattr(clips, "PASSED", passed)
    frames = list(read_frames(tmp_path / "kept.mp4"))
    generator = np.random.default_rng(3)
    for order in (np.arange(FRAMES), generator.integers(0, FRAMES, 30), np.array([5, 5, 5, 0, 11, 11])):
        moments = [frames[each].seconds + 0.03 for each in order]
        for each, shown in zip(order, frames_at(tmp_path / "kept.mp4", moments), strict=True):
            np.testing.assert_array_equal(shown, frames[each].pixels)


def test_crops_of_a_page_are_those_that_are_cut_out_one_by_one(run):
    folder, sessions, detection, place = run
    found = found_by(folder, detection)
    numbers = sorted_boxes(found, found.kept(None, 0.5), "surest").tolist()
    with sessions() as session:
        where = clips_of_boxes(session, folder, get_detection(session, detection.id), found, numbers)
    assert where == {"in/belt.mp4": place / "input" / "000001.mp4"}
    ahead = CropsAhead()
    ahead.begin(found, numbers, where, anew=True)
    for number in numbers:
        on_clip = found.owner[number] > 0
        crop = ahead.crop(found, number)
        assert crop == (
            crop_of(Input(where["in/belt.mp4"], "in/belt.mp4"), found, number) if on_clip else None
        )
    assert ahead.crop(found, len(found.scores) + 1) is None


def test_where_a_clip_is_damaged_or_gone_each_crop_is_asked_for_alone(run):
    folder, sessions, detection, place = run
    found, path = found_by(folder, detection), place / "input" / "000001.mp4"
    numbers = np.flatnonzero(found.owner > 0).tolist()
    path.write_bytes(b"no clip any more")
    ahead = CropsAhead()
    ahead.begin(found, numbers, {"in/belt.mp4": path})
    assert [ahead.crop(found, number) for number in numbers] == [None] * len(numbers)
    path.unlink()
    with sessions() as session:
        there = get_detection(session, detection.id)
        assert clips_of_boxes(session, folder, there, found, numbers) == {}


def test_crops_that_nobody_waits_for_any_more_are_let_go(run, monkeypatch):
    folder, _, detection, place = run
    found, goes_on = found_by(folder, detection), threading.Event()
    numbers = np.flatnonzero(found.owner > 0).tolist()
    first, second = numbers[:6], numbers[6:]
    where, real = {"in/belt.mp4": place / "input" / "000001.mp4"}, frames_at

    def slowly(*given):
        for pixels in real(*given):
            goes_on.wait(10)
            yield pixels

    monkeypatch.setattr(crops_ahead, "frames_at", slowly)
    ahead = CropsAhead()
    ahead.begin(found, first, where)
    ahead.begin(found, second, where, anew=True)
    assert [ahead.crop(found, number) for number in first] == [None] * len(first)
    goes_on.set()
    assert all(ahead.crop(found, number) for number in second)


def test_chosen_pictures_come_into_the_project_with_their_proposals(run):
    folder, sessions, detection, _ = run
    for places, added, there in (([0, 4, 9], 2, 1), ([4], 0, 1)):
        given = FoundToCollect(detection_id=detection.id, places=places, minimum_score=0.25)
        with sessions.begin() as session:
            job_id = create_job(session, detection.project_id, COLLECT_FOUND, "Collect", given).id
        run_job(sessions, folder, job_id)
        with sessions() as session:
            from avocet.work.jobs import get_job

            job = get_job(session, job_id)
            assert job.state == JobState.DONE, job.message
            # The still is a picture of the project already.
            assert (job.outcome["added"], job.outcome["already_there"]) == (added, there)
    with sessions() as session:
        taken = session.scalars(select(Picture).where(Picture.name.like("belt-%"))).all()
        assert [each.name for each in taken] == ["belt-000003.jpg", "belt-000008.jpg"]
        assert all(each.state == PictureState.UNLABELLED for each in taken)
        kept = session.scalars(select(Proposal).where(Proposal.picture_id == taken[0].id)).all()
        assert sorted((each.class_name, each.score) for each in kept) == [
            ("ring", 0.3),
            ("ring", 0.8),
            ("roll", 0.9),
        ]
