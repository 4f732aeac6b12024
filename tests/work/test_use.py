"""Detection runs."""

import csv
import json

import pytest

from avocet.core.errors import InputError
from avocet.detector.model.predictor import Predictor
from avocet.jobs.worker import run_job
from avocet.media.clips import ClipWriter, clip_info
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
    for name in ("../../../avocet.sqlite", "input/000000.mp4", "gone.jpg"):
        with pytest.raises(NotFound):
            result_file(folder, detection, name)


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
