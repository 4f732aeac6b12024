"""Live work: a camera watched and recorded, a folder watched across kills, what is refused."""

import base64
import io
import json
import os
import signal
import subprocess
import sys
import threading
import time

import numpy as np
import pytest
from PIL import Image
from sqlalchemy.exc import OperationalError

from avocet.core.detections import PictureDetections
from avocet.core.errors import InputError
from avocet.core.tracks.linking import Linker
from avocet.demo.belt import render_still
from avocet.demo.camera import SimulatedCamera
from avocet.detector.model.predictor import Predictor
from avocet.media.clip_writer import ClipWriter
from avocet.media.clips import read_frames
from avocet.media.pictures import encode_jpeg
from avocet.store.tables import JobState
from avocet.work.job_kinds import Lane, kinds_of
from avocet.work.jobs import mark_interrupted
from avocet.work.live.camera import watch_camera
from avocet.work.live.folder import watch_folder
from avocet.work.live.live import bin_live, get_live, go_on, list_live, start_live, stop_live
from avocet.work.live.recording import Recording, recordings
from avocet.work.live.restarting import set_going_again
from avocet.work.live.showing import Shown, shown_now, wish
from avocet.work.progress import Silent, Stopped
from avocet.work.use.running.looking import Looker
from avocet.work.use.running.order import DetectionOrder
from tests.ready import add_trained_run, trained_bundle
from tests.waiting import wait_for


@pytest.fixture(scope="module")
def looker(tmp_path_factory):
    path = tmp_path_factory.mktemp("live") / "belt.zip"
    path.write_bytes(trained_bundle())
    return Looker(Predictor.from_bundle(path), DetectionOrder(minimum_score=0.4))


class Until(Silent):
    """Runs until it is told to stop."""

    def __init__(self):
        self.over = threading.Event()

    def should_stop(self):
        return self.over.is_set()


def running(does, *arguments, **options):
    """Live work in a thread, and what ends it."""
    until, ended = Until(), []

    def run():
        try:
            does(*arguments, until, **options)
        except Stopped:
            ended.append("stopped")

    thread = threading.Thread(target=run, daemon=True)
    thread.start()

    def stop():
        until.over.set()
        thread.join(20)
        assert ended == ["stopped"]

    return stop


@pytest.mark.long
@pytest.mark.slow
def test_a_camera_is_watched_counted_and_recorded(looker, tmp_path):
    simulated = SimulatedCamera(rate=10)
    simulated.start()
    stop = running(watch_camera, simulated.address, looker, tmp_path)
    try:
        said = wait_for(lambda: (found := shown_now(tmp_path)) and found.get("boxes") and found, "boxes")
        assert said["state"] == "live" and time.time() - said["captured"] < 5
        shown = Image.open(io.BytesIO(base64.b64decode(said["jpeg"])))
        assert shown.size == (960, 540) and len(said["boxes"]) == len(said["scores"]) == len(said["objects"])
        wish(tmp_path, {"recording": True})
        wait_for(lambda: shown_now(tmp_path)["recording"], "a recording")
        wait_for(lambda: sum(shown_now(tmp_path)["last_minute"].values()) >= 6, "objects")
        time.sleep(3)
        simulated.change({"stall": ["4"]})
        wait_for(lambda: shown_now(tmp_path)["state"] == "stalled", "the stall")
        wait_for(lambda: shown_now(tmp_path)["state"] == "live", "the camera back")
        wish(tmp_path, {"recording": False})
        wait_for(lambda: not shown_now(tmp_path)["recording"], "its end")
        (name,) = recordings(tmp_path / "recordings")
    finally:
        stop()
        simulated.close()
    shown = [frame.seconds for frame in read_frames(tmp_path / "recordings" / name)]
    lines = [
        json.loads(line)
        for line in (tmp_path / "recordings" / name.replace("mp4", "jsonl")).read_text().splitlines()
    ]
    np.testing.assert_allclose(shown, [line["seconds"] for line in lines], atol=1e-3)
    assert any(line["detections"] for line in lines)
    # It runs as time did: what the clock says between two lines is what their frames say.
    took = lines[-1]["at"] - lines[0]["at"]
    assert lines[-1]["seconds"] - lines[0]["seconds"] == pytest.approx(took, abs=0.3)
    assert took > 5, "the stall is in it"


def recorded(place, made):
    """When the frames of a recording are shown, and when its lines say that they are."""
    lines = [
        json.loads(line) for line in (place / made.name.replace("mp4", "jsonl")).read_text().splitlines()
    ]
    return [frame.seconds for frame in read_frames(place / made.name)], [line["seconds"] for line in lines]


def test_a_recording_shows_frames_when_they_came(tmp_path):
    """Also after a long silence, and at whatever rate they come."""
    pixels = np.zeros((64, 96, 3), np.uint8)
    made = Recording(tmp_path, 1000.0)
    came = (1000.2, 1000.24, 1000.5, 1001.2, 5000.0, 5000.2, 4000.0)
    for at in came:
        made.add(pixels, {"detections": []}, at)
    assert not made.fits(np.zeros((32, 96, 3), np.uint8))
    made.add(np.zeros((32, 96, 3), np.uint8), {}, 5001.0)
    made.close()
    assert recordings(tmp_path) == [made.name]
    shown, told = recorded(tmp_path, made)
    np.testing.assert_allclose(shown, np.array(came[:-1]) - came[0], atol=2e-4)
    np.testing.assert_allclose(told, shown, atol=1e-3)
    # A second one of that second has a name of its own.
    other = Recording(tmp_path, 1000.0)
    other.close()
    assert other.name != made.name


def test_a_recording_that_is_killed_plays_up_to_then_and_is_listed(tmp_path):
    program = (
        "import os, sys, time; import numpy as np; from pathlib import Path\n"
        "from avocet.work.live.recording import Recording\n"
        "made = Recording(Path(sys.argv[1]), 1000.0)\n"
        "for number in range(80):\n"
        "    made.add(np.full((64, 96, 3), number, np.uint8), {'detections': []}, 1000 + number / 10)\n"
        "    time.sleep(0.01)\n"
        "time.sleep(1)\n"
        "os.kill(os.getpid(), 9)\n"
    )
    done = subprocess.run([sys.executable, "-c", program, str(tmp_path)], timeout=60)
    assert done.returncode == -9
    (name,) = recordings(tmp_path)
    shown = list(read_frames(tmp_path / name))
    assert len(shown) >= 60 and shown[50].seconds == pytest.approx(5.0, abs=0.01)
    assert shown[50].pixels.mean() == pytest.approx(50, abs=4)


def test_recording_never_makes_looking_wait(tmp_path, monkeypatch):
    """A packer that takes half a second a frame gets what it can take; the rest is left out."""
    real = ClipWriter.write

    def slow(self, *given):
        time.sleep(0.3)
        real(self, *given)

    monkeypatch.setattr(ClipWriter, "write", slow)
    made = Recording(tmp_path, 1000.0)
    begun = time.monotonic()
    for number in range(60):
        made.add(np.zeros((64, 96, 3), np.uint8), {}, 1000 + number / 10)
    assert time.monotonic() - begun < 0.3
    made.close()
    shown, told = recorded(tmp_path, made)
    assert len(shown) == len(told) == 60 - made.left_out and 10 < len(shown) < 20
    np.testing.assert_allclose(told, shown, atol=1e-3)


def test_a_recording_that_cannot_be_written_says_so_and_looking_goes_on(tmp_path, monkeypatch):
    def full(*_):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(ClipWriter, "write", full)
    made = Recording(tmp_path, 1000.0)
    for number in range(100):
        made.add(np.zeros((64, 96, 3), np.uint8), {}, 1000 + number / 10)
        time.sleep(0.001)
    assert "No space left" in made.fault
    made.close()


def test_a_disk_that_hangs_or_is_full_never_makes_looking_wait(looker, tmp_path, monkeypatch):
    """Nor does it end the work: what could not be told is told later."""
    shown, counts = [], []

    def hanging(self, said, pixels):
        time.sleep(1.5)
        shown.append(said)

    class Full(Until):
        def progress(self, done, total, message=""):
            counts.append(done)
            raise OperationalError("UPDATE job", {}, OSError(28, "No space left on device"))

    monkeypatch.setattr(Shown, "show", hanging)
    monkeypatch.setattr("tests.work.test_live.Until", Full)
    simulated = SimulatedCamera(rate=10)
    simulated.start()
    stop = running(watch_camera, simulated.address, looker, tmp_path)
    try:
        wait_for(lambda: len(shown) >= 5, "five times shown")
    finally:
        stop()
        simulated.close()
    assert len(counts) >= 4, "telling went on"
    # One that waits for the disk looks at one picture for each that is shown.
    assert counts[-1] - counts[0] >= 2 * (len(counts) - 1)


@pytest.mark.slow
def test_an_endless_linker_numbers_alike_and_keeps_nothing():
    random = np.random.default_rng(5)
    endless, keeping = Linker(0.5, endless=True), Linker(0.5)
    for frame in range(300):
        boxes = []
        for lane in range(4):
            y = (frame * 9 + lane * 170) % 700 - 80
            boxes.append([100 * lane, y, 100 * lane + 80, y + 80])
        kept = random.random(4) > 0.1
        found = PictureDetections(np.array(boxes)[kept], np.full(kept.sum(), 0.9), np.zeros(kept.sum(), int))
        np.testing.assert_array_equal(endless.step(found), keeping.step(found))
    assert len(keeping.tracks()) > 15 and len(endless._ended) == 0
    assert all(len(each.boxes) == 1 for each in endless._open)


def put(folder, name, number=0):
    """A picture that appears as programs write them: under its own name, bit by bit."""
    content = encode_jpeg(render_still(number).pixels)
    path = folder / name
    path.parent.mkdir(parents=True, exist_ok=True)
    with path.open("wb") as opened:
        opened.write(content[:5000])
        opened.flush()
        opened.write(content[5000:])


def results(out):
    # What is still being written has a hidden name.
    return {
        each.relative_to(out).as_posix(): json.loads(each.read_text())
        for each in sorted(out.rglob("[!.]*.json"))
    }


@pytest.mark.long
@pytest.mark.slow
def test_every_picture_that_appears_is_looked_at_once_it_is_written(looker, tmp_path):
    source, out, place = tmp_path / "in", tmp_path / "out", tmp_path / "place"
    source.mkdir()
    put(source, "a.jpg")
    stop = running(watch_folder, str(source), str(out), False, looker, place, every=0.2)
    try:
        wait_for(lambda: "a.jpg.json" in results(out), "the first result")
        put(source, "day/b.jpg", 1)
        slow = encode_jpeg(render_still(2).pixels)
        with (source / "slow.jpg").open("wb") as opened:
            # Written over four seconds: never looked at before its end.
            for start in range(0, len(slow), len(slow) // 8 + 1):
                opened.write(slow[start : start + len(slow) // 8 + 1])
                opened.flush()
                time.sleep(0.5)
                assert "slow.jpg.json" not in results(out)
        (source / "notes.txt").write_text("no picture")
        (source / ".hidden.jpg").write_bytes(slow)
        found = wait_for(lambda: len(results(out)) == 3 and results(out), "all results")
        assert set(found) == {"a.jpg.json", "day/b.jpg.json", "slow.jpg.json"}
        for said in found.values():
            assert said["detections"] and (said["width"], said["height"]) == (960, 540)
            assert (out / said["annotated"]).is_file()
        # One that is replaced is another picture.
        before = found["a.jpg.json"]["detections"]
        put(source, "a.jpg", 3)
        wait_for(lambda: results(out)["a.jpg.json"]["detections"] != before, "the new picture's result")
        # The result is there a moment before it is shown.
        said = wait_for(lambda: (now := shown_now(place))["done"] == 4 and now, "the fourth picture shown")
        assert said["waiting"] == 0 and said["latest"][0]["name"] == "a.jpg"
    finally:
        stop()


@pytest.mark.slow
def test_broken_pictures_a_folder_that_goes_and_a_disk_that_refuses(looker, tmp_path):
    source, out, place = tmp_path / "in", tmp_path / "out", tmp_path / "place"
    source.mkdir()
    (source / "broken.jpg").write_bytes(b"\xff\xd8\xff broken")
    os.utime(source / "broken.jpg", (time.time() - 60, time.time() - 60))
    stop = running(watch_folder, str(source), str(out), False, looker, place, every=0.2)
    try:
        said = wait_for(lambda: results(out).get("broken.jpg.json"), "what is wrong with it")
        assert "broken.jpg" in said["problem"]
        wait_for(lambda: "broken.jpg" in " ".join(shown_now(place)["problems"]), "it told")
        moved = tmp_path / "elsewhere"
        source.rename(moved)
        wait_for(lambda: shown_now(place)["state"] == "lost", "the folder missed")
        assert "waiting for it" in shown_now(place)["message"]
        moved.rename(source)
        wait_for(lambda: shown_now(place)["state"] == "live", "the folder back")
        # An output folder that cannot be written: told, and done once it can.
        (out / "c.jpg.json").mkdir()
        put(source, "c.jpg")
        wait_for(lambda: "cannot be written" in shown_now(place)["message"], "the refusal told")
        (out / "c.jpg.json").rmdir()
        wait_for(lambda: (out / "c.jpg.json").is_file(), "the result")
    finally:
        stop()


@pytest.mark.slow
def test_a_pipe_a_strange_name_and_a_full_disk_do_not_end_a_watched_folder(tmp_path):
    """Of a pipe nobody knows the end; a name need be no text; and what cannot be told now is told later."""
    (tmp_path / "belt.zip").write_bytes(trained_bundle())
    order = DetectionOrder(minimum_score=0.4, copies="boxes")
    looker = Looker(Predictor.from_bundle(tmp_path / "belt.zip"), order)
    source, out, place = tmp_path / "in", tmp_path / "out", tmp_path / "place"
    source.mkdir()
    os.mkfifo(source / "pipe.jpg")
    content = encode_jpeg(render_still(1).pixels)
    for name, holds in ((b"\xff\xfe.jpg", content), (b"\xfe torn.jpg", content[:900]), (b"z.jpg", content)):
        path = source / os.fsdecode(name)
        path.write_bytes(holds)
        os.utime(path, (time.time() - 60, time.time() - 60))
    told = []

    class Full(Until):
        def progress(self, done, total, message=""):
            if len(told) < 3:
                told.append(done)
                raise OperationalError("UPDATE job", {}, OSError(28, "No space left on device"))
            told.append(done)

    until = Full()
    ended = []

    def run():
        try:
            watch_folder(str(source), str(out), False, looker, place, until, every=0.2)
        except Stopped:
            ended.append("stopped")

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    try:
        found = wait_for(lambda: len(results(out)) == 3 and results(out), "three results", 40)
        wait_for(lambda: len(told) > 3 and told[-1] == 2, "two pictures told")
        assert "\\xfe torn.jpg" in " ".join(shown_now(place)["problems"])
    finally:
        until.over.set()
        thread.join(5)
    assert ended == ["stopped"], "Stop ends it within 5 s"
    strange = next(each for each in found.values() if each["name"] == "\\xff\\xfe.jpg")
    assert strange["detections"] == found["z.jpg.json"]["detections"]
    assert (out / strange["annotated"]).is_file()


KILLED = """
import sys, pathlib
from avocet.detector.model.predictor import Predictor
from avocet.work.live.folder import watch_folder
from avocet.work.progress import SILENT
from avocet.work.use.running.looking import Looker
from avocet.work.use.running.order import DetectionOrder
looker = Looker(Predictor.from_bundle(pathlib.Path(sys.argv[1])), DetectionOrder(minimum_score=0.4))
watch_folder(sys.argv[2], sys.argv[3], sys.argv[4] == "moves", looker, pathlib.Path(sys.argv[5]), SILENT, 0.1)
"""


@pytest.mark.long
@pytest.mark.slow
@pytest.mark.parametrize("how", ["stays", "moves"])
def test_a_kill_at_any_moment_loses_nothing_and_does_nothing_twice(tmp_path, how):
    (tmp_path / "belt.zip").write_bytes(trained_bundle())
    source, out = tmp_path / "in", tmp_path / "out"
    for number in range(24):
        put(source, f"{number:02d}.jpg", number % 5)
    random = np.random.default_rng(8)
    written: dict[str, int] = {}
    for attempt in range(3):
        command = [sys.executable, "-c", KILLED, tmp_path / "belt.zip", source, out, how, tmp_path / "place"]
        process = subprocess.Popen([str(each) for each in command])
        if attempt < 2:
            more = len(list(out.glob("[!.]*.json"))) + 1 if out.is_dir() else 1
            wait_for(lambda more=more: len(list(out.glob("[!.]*.json"))) >= min(more, 24), "some work", 60)
            time.sleep(random.uniform(0, 0.3))
        else:
            wait_for(lambda: len(list(out.glob("[!.]*.json"))) == 24, "all results", 60)
            wait_for(lambda: how == "stays" or not list(source.glob("*.jpg")), "all moved", 20)
        os.kill(process.pid, signal.SIGKILL)
        process.wait()
        for path in out.glob("[!.]*.json"):
            stamp = path.stat().st_mtime_ns
            assert written.setdefault(path.name, stamp) == stamp, f"{path.name} was done twice"
            json.loads(path.read_text())
    assert len(written) == 24
    kept = source if how == "stays" else out / "done"
    assert sorted(each.name for each in kept.glob("*.jpg")) == [f"{number:02d}.jpg" for number in range(24)]


# The records.


@pytest.fixture
def belt(data, labelled, tmp_path):
    folder, sessions = data
    (tmp_path / "watched").mkdir()
    with sessions.begin() as session:
        return folder, sessions, add_trained_run(session, folder, 1).id, tmp_path / "watched"


def start(session, folder, run_id, **wished):
    given = {"camera": None, "watched": None, "out": None} | wished
    return start_live(
        session, folder, run_id, None, "Line 2", given["camera"], given["watched"], given["out"], False, {}
    )


def test_live_work_is_made_stopped_and_set_going_again(belt):
    folder, sessions, run_id, watched = belt
    with sessions.begin() as session:
        camera = start(session, folder, run_id, camera="http://127.0.0.1:8330/")
        other = start(session, folder, run_id, watched=watched)
        assert other.out.endswith(f"live/{other.id}/results") and camera.order["minimum_score"] == 0.4
        assert [each.kind for each in list_live(session, 1)] == ["camera", "folder"]
        camera.job.state = JobState.RUNNING
        numbers = camera.id, other.id
    with sessions.begin() as session:
        # The server was ended: what ran is interrupted, and goes on with the next one.
        mark_interrupted(session, kinds_of(Lane.LIVE))
        assert get_live(session, numbers[0]).job.state == JobState.INTERRUPTED
        set_going_again(session)
        assert get_live(session, numbers[0]).job.state == JobState.WAITING
        stop_live(session, numbers[0])
        assert get_live(session, numbers[0]).job.state == JobState.STOPPED
        set_going_again(session)
        assert get_live(session, numbers[0]).job.state == JobState.STOPPED, "what a person stopped stays so"
        go_on(session, numbers[0])
        bin_live(session, numbers[0], True)
        assert [each.id for each in list_live(session, 1)] == [numbers[1]]
        assert bin_live(session, numbers[0], False).job.state == JobState.STOPPED


def test_what_cannot_be_live(belt):
    folder, sessions, run_id, watched = belt
    with sessions.begin() as session:
        for wished, message in (
            ({}, "name a camera or a folder"),
            ({"camera": "http://x/", "watched": watched}, "name a camera or a folder"),
            ({"camera": "file:///etc/passwd"}, "no address of a camera"),
            ({"watched": watched, "out": watched}, "cannot go into watched"),
        ):
            with pytest.raises(InputError, match=message):
                start(session, folder, run_id, **wished)
        for number in range(8):
            start(session, folder, run_id, camera=f"http://127.0.0.1:{9000 + number}/")
        with pytest.raises(InputError, match="8 cameras and folders are live"):
            start(session, folder, run_id, camera="http://127.0.0.1:1/")
