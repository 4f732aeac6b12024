"""Detection runs."""

import csv
import json

import numpy as np
import pytest

from avocet.core.errors import InputError
from avocet.core.raw.candidates import Candidates
from avocet.detector.model.predictor import Predictor
from avocet.jobs.worker import run_job
from avocet.media.clips import ClipWriter, clip_info
from avocet.media.pictures import encode_jpeg
from avocet.store.tables import JobState
from avocet.work.problems import NotFound
from avocet.work.progress import Silent, Stopped
from avocet.work.train.runs import get_run, model_path
from avocet.work.use.detect import Input, detect, gather
from avocet.work.use.detections import get_detection, result_file, start_detection


def write_clip(path, frames):
    with ClipWriter(path, 960, 540, 10) as writer:
        for frame in frames:
            writer.write(frame.pixels)


def test_detection_over_pictures_and_a_clip(trained, frames, tmp_path, made_once):
    folder, sessions, run_id = trained
    write_clip(tmp_path / "belt.mp4", frames[:3])
    bad = tmp_path / "bad.png"
    bad.write_text("no picture")
    with sessions.begin() as session:
        names = [
            (tmp_path / "belt.mp4", "in/belt.mp4"),
            (made_once / "still-0.jpg", "in/still.jpg"),
            (bad, "in/bad.png"),
        ]
        detection = start_detection(session, folder, run_id, {}, 0.01, 0.5, names)
        detection_id, job_id = detection.id, detection.job_id
    run_job(sessions, folder, job_id)
    with sessions() as session:
        detection = get_detection(session, detection_id)
        assert detection.job.state == JobState.DONE, detection.job.message
    summary = detection.summary
    assert summary["pictures"] == 4 and summary["frames_per_second"] > 0
    assert summary["problems"] == ["in/bad.png is not a JPEG, PNG, WebP, BMP or TIFF picture"]
    document = json.loads(result_file(folder, detection, "detections.json").read_text())
    assert [p["name"] for p in document["pictures"]] == ["in/still.jpg"] + ["in/belt.mp4"] * 3
    assert [p.get("frame") for p in document["pictures"]] == [None, 0, 1, 2]
    rows = list(csv.DictReader(result_file(folder, detection, "detections.csv").open()))
    assert len(rows) == summary["detections"] == sum(len(p["detections"]) for p in document["pictures"])
    for picture in document["pictures"]:
        for found in picture["detections"]:
            x1, y1, x2, y2 = found["box"]
            assert 0 <= x1 < x2 <= 960 and 0 <= y1 < y2 <= 540 and found["score"] >= 0.01
    assert clip_info(result_file(folder, detection, "annotated/in/belt.mp4")).frames == 3
    objects = json.loads(result_file(folder, detection, "objects.json").read_text())["objects"]
    assert len(objects) == sum(summary["objects"].values())
    for name in ("../../../avocet.sqlite", "input/000000.mp4", "gone.jpg"):
        with pytest.raises(NotFound):
            result_file(folder, detection, name)


class Scripted:
    """Finds what it was told, frame by frame."""

    classes = ("roll", "ring")

    def __init__(self, frames, about=None):
        self.frames, self.about, self.asked = list(frames), about or {}, []

    def candidates(self, pictures, minimum_score):
        self.asked.append(minimum_score)
        found = [self.frames.pop(0) for _ in pictures]
        return [Candidates(*(np.array(each) for each in zip(*some, strict=True))) for some in found]


def rolling(number, score=0.9):
    """A roll that moves right, and a ring that stays."""
    return [([10 + 8 * number, 10, 70 + 8 * number, 70], score, 0), ([300, 200, 360, 260], 0.8, 1)]


def test_objects_of_a_clip_are_counted_once(frames, tmp_path):
    """A weak box carries its object on without being told, and begins none."""
    write_clip(tmp_path / "belt.mp4", [frames[0]] * 6)
    items = [Input(tmp_path / "belt.mp4", "belt.mp4")]
    script = [rolling(number, 0.3 if number == 3 else 0.9) for number in range(6)]
    script[5].append(([500, 400, 560, 460], 0.4, 0))
    finder = Scripted(script)
    summary = detect(finder, items, tmp_path / "out", 0.5, 0.5, Silent())
    assert finder.asked == [0.25] and summary["objects"] == {"roll": 1, "ring": 1}
    assert summary["detections"] == 11, "the weak ones are not told"
    rows = list(csv.DictReader((tmp_path / "out" / "objects.csv").open()))
    assert [(row["object"], row["class"], row["first_frame"], row["last_frame"], row["frames_seen"]) for row in rows] == [
        ("1", "roll", "0", "5", "6"), ("2", "ring", "0", "5", "6"),
    ]  # fmt: skip
    assert float(rows[0]["last_seconds"]) == pytest.approx(0.5, abs=0.01)
    told = json.loads((tmp_path / "out" / "detections.json").read_text())["pictures"]
    assert [[row["object"] for row in each["detections"]] for each in told] == [[1, 2]] * 3 + [[2]] + [
        [1, 2]
    ] * 2
    numbers = [row["object"] for row in csv.DictReader((tmp_path / "out" / "detections.csv").open())]
    assert numbers.count("1") == 5 and numbers.count("2") == 6
    combined = Scripted([rolling(number) for number in range(6)], {"method": "fusion"})
    detect(combined, items, tmp_path / "combined", 0.5, 0.5, Silent())
    assert combined.asked == [0.5], "weaker boxes would move those that are combined"


def test_pictures_have_no_objects(frames, tmp_path):
    (tmp_path / "still.jpg").write_bytes(encode_jpeg(frames[0].pixels))
    still = [Input(tmp_path / "still.jpg", "still.jpg")]
    summary = detect(Scripted([rolling(0)]), still, tmp_path / "out", 0.5, 0.5, Silent())
    assert summary["objects"] is None and not (tmp_path / "out" / "objects.csv").exists()


def test_stopped_detection_keeps_what_it_found(trained, frames, tmp_path):
    folder, sessions, run_id = trained
    write_clip(tmp_path / "belt.mp4", [frames[0]] * 20)
    with sessions() as session:
        predictor = Predictor.from_bundle(model_path(folder, get_run(session, run_id)))

    class StopsAtOnce(Silent):
        def should_stop(self):
            return True

    with pytest.raises(Stopped):
        detect(
            predictor, [Input(tmp_path / "belt.mp4", "belt.mp4")], tmp_path / "out", 0.5, 0.5, StopsAtOnce()
        )
    assert clip_info(tmp_path / "out" / "annotated" / "belt.mp4").frames == 8
    assert len(json.loads((tmp_path / "out" / "detections.json").read_text())["pictures"]) == 8


def test_inputs_are_gathered_and_named(tmp_path, frames):
    (tmp_path / "a").mkdir()
    write_clip(tmp_path / "a" / "x.mp4", frames[:1])
    (tmp_path / "a" / "notes.txt").write_text("")
    (tmp_path / "empty").mkdir()
    assert [each.name for each in gather([tmp_path / "a"])] == ["x.mp4"]
    for path, expected in (
        (tmp_path / "empty", "no picture and no clip"),
        (tmp_path / "gone", "no such file or folder"),
        (tmp_path / "a" / "notes.txt", "neither a picture nor a clip"),
    ):
        with pytest.raises(InputError, match=expected):
            gather([path])
