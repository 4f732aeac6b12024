"""Detection runs."""

import csv
import json
import zipfile
from pathlib import Path

import av
import numpy as np
import pytest
from scipy.ndimage import find_objects, label

from avocet.core.errors import InputError
from avocet.core.raw.candidates import Candidates
from avocet.formats.coco_results import read_results
from avocet.jobs.worker import run_job
from avocet.media.clip_writer import ClipWriter
from avocet.media.clips import clip_info, read_frames
from avocet.media.pictures import encode_jpeg, encode_png, read_picture
from avocet.store.tables import JobState
from avocet.work.problems import NotFound
from avocet.work.progress import Silent
from avocet.work.use.detections import Source, get_detection, result_file, start_detection
from avocet.work.use.running.course import Input
from avocet.work.use.running.detect import detect, gather
from avocet.work.use.running.order import DetectionOrder
from avocet.work.use.running.record import read_record


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
        detection = start_detection(session, folder, run_id, Source(), {"minimum_score": 0.01}, names)
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


@pytest.mark.slow
def test_objects_of_a_clip_are_counted_once(frames, tmp_path):
    """A weak box carries its object on without being told, and begins none."""
    write_clip(tmp_path / "belt.mp4", [frames[0]] * 6)
    items = [Input(tmp_path / "belt.mp4", "belt.mp4")]
    script = [rolling(number, 0.3 if number == 3 else 0.9) for number in range(6)]
    script[5].append(([500, 400, 560, 460], 0.4, 0))
    finder = Scripted(script)
    summary = detect(finder, items, tmp_path / "out", DetectionOrder(minimum_score=0.5), Silent())
    assert set(finder.asked) == {0.25} and summary["objects"] == {"roll": 1, "ring": 1}
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


def test_pictures_have_no_objects(frames, tmp_path):
    (tmp_path / "still.jpg").write_bytes(encode_jpeg(frames[0].pixels))
    still = [Input(tmp_path / "still.jpg", "still.jpg")]
    summary = detect(
        Scripted([rolling(0)]), still, tmp_path / "out", DetectionOrder(minimum_score=0.5), Silent()
    )
    assert summary["objects"] is None and not (tmp_path / "out" / "objects.csv").exists()


class StopsAfter(Silent):
    """Asks to stop once so many were done."""

    def __init__(self, done):
        self.most, self.done = done, 0

    def progress(self, done, total, message=""):
        self.done = done

    def should_stop(self):
        return self.done >= self.most


def results(out):
    """What a run leaves behind, but for how fast it was."""
    document = json.loads((out / "detections.json").read_text())
    tables = [(out / name).read_text() for name in ("detections.csv", "objects.csv", "objects.json")]
    return (
        document["pictures"],
        document["summary"]["by_class"],
        tables,
        list(read_record(out / "detections.jsonl")),
    )


@pytest.mark.slow
@pytest.mark.parametrize("stop_at", [1, 4, 7, 18])
def test_a_run_goes_on_where_it_was_stopped(frames, tmp_path, stop_at):
    """Stopped among the pictures, between them and the clip, within the clip and near its end."""
    write_clip(tmp_path / "belt.mp4", [frames[0]] * 14)
    items = [Input(tmp_path / "belt.mp4", "belt.mp4")]
    for number in range(5):
        (tmp_path / f"{number}.jpg").write_bytes(encode_jpeg(frames[number].pixels))
        items.append(Input(tmp_path / f"{number}.jpg", f"{number}.jpg"))
    script = [rolling(number) for number in range(5)] + [
        rolling(number, 0.3 if number == 6 else 0.9) for number in range(14)
    ]
    order = DetectionOrder(minimum_score=0.5, crops=True)
    whole = Scripted(script)
    detect(whole, items, tmp_path / "whole", order, Silent())
    first = detect(Scripted(script), items, tmp_path / "parts", order, StopsAfter(stop_at))
    assert first["stopped"] and stop_at <= first["pictures"] < 19
    done = first["pictures"]
    # What a kill may leave: a line that was not written to its end, and a copy that was not.
    with (tmp_path / "parts" / "detections.jsonl").open("a") as opened:
        opened.write('{"name":"belt.mp4","frame":')
    (tmp_path / "parts" / "annotated").mkdir(exist_ok=True)
    (tmp_path / "parts" / "annotated" / ".belt-a1b2c3d4.mp4").write_bytes(b"half")
    rest = Scripted(script[done:])
    second = detect(rest, items, tmp_path / "parts", order, Silent(), go_on=True)
    assert rest.frames == [] and second["pictures"] == 19 and not second["stopped"]
    assert results(tmp_path / "parts") == results(tmp_path / "whole")
    assert second["copies"] == ["0.jpg", "1.jpg", "2.jpg", "3.jpg", "4.jpg", "belt.mp4"]
    assert clip_info(tmp_path / "parts" / "annotated" / "belt.mp4").frames == 14
    inside = sorted(each.name for each in (tmp_path / "parts" / "annotated").iterdir())
    assert inside == sorted(second["copies"])
    crops = {each.name for each in (tmp_path / "parts" / "crops").iterdir()}
    listed = [row["crop"] for row in csv.DictReader((tmp_path / "parts" / "crops.csv").open())]
    assert set(listed) == crops and len(listed) == len(crops) == second["detections"]


def test_going_on_with_other_settings_is_refused(frames, tmp_path):
    (tmp_path / "still.jpg").write_bytes(encode_jpeg(frames[0].pixels))
    items = [Input(tmp_path / "still.jpg", "still.jpg")]
    detect(Scripted([rolling(0)]), items, tmp_path / "out", DetectionOrder(minimum_score=0.5), Silent())
    kept = (tmp_path / "out" / "detections.jsonl").read_bytes()
    with pytest.raises(InputError, match="another model or other settings"):
        detect(
            Scripted([rolling(0)]), items, tmp_path / "out", DetectionOrder(minimum_score=0.6), Silent(), True
        )
    assert (tmp_path / "out" / "detections.jsonl").read_bytes() == kept
    again = detect(Scripted([]), items, tmp_path / "out", DetectionOrder(minimum_score=0.5), Silent(), True)
    assert again["pictures"] == 1, "nothing is left to do, and nothing was lost"
    (tmp_path / "out" / "detections.jsonl").write_bytes(b"rubbish\n" + kept)
    with pytest.raises(InputError, match=r"detections\.jsonl is damaged at byte 0"):
        detect(Scripted([]), items, tmp_path / "out", DetectionOrder(minimum_score=0.5), Silent(), True)


@pytest.mark.slow
def test_one_bad_picture_among_many_is_listed(frames, tmp_path):
    items = []
    for number in range(20):
        path = tmp_path / f"{number:02d}.jpg"
        path.write_bytes(encode_jpeg(frames[0].pixels) if number != 7 else b"\xff\xd8\xff rubbish")
        items.append(Input(path, path.name))
    script = [rolling(number) for number in range(19)]
    summary = detect(Scripted(script), items, tmp_path / "out", DetectionOrder(minimum_score=0.5), Silent())
    assert summary["pictures"] == 19 and len(summary["problems"]) == 1 and "07.jpg" in summary["problems"][0]
    rows = list(read_record(tmp_path / "out" / "detections.jsonl"))
    assert [each["name"] for each in rows] == [each.name for each in items], "in their order"
    with pytest.raises(InputError, match=r"07\.jpg"):
        detect(Scripted([]), items[7:8], tmp_path / "none", DetectionOrder(), Silent())


def test_what_counts(frames, tmp_path):
    """Only some classes, and only what lies in a region; both hold for the weaker boxes too."""
    (tmp_path / "still.jpg").write_bytes(encode_jpeg(frames[0].pixels))
    items = [Input(tmp_path / "still.jpg", "still.jpg")]
    boxes = [
        ([10, 10, 70, 70], 0.9, 0),
        ([300, 200, 360, 260], 0.8, 1),
        ([310, 205, 372, 262], 0.35, 1),
        ([800, 400, 860, 460], 0.7, 1),
    ]

    def found(**wished):
        order = DetectionOrder(minimum_score=0.5, **wished)
        detect(Scripted([boxes]), items, tmp_path / "out", order, Silent())
        (row,) = read_record(tmp_path / "out" / "detections.jsonl")
        return [(each["class"], each["score"]) for each in row["detections"]], [
            each[:2] for each in row["others"]
        ]

    assert found() == ([("roll", 0.9), ("ring", 0.8), ("ring", 0.7)], [[1, 0.35]])
    assert found(only=["roll"]) == ([("roll", 0.9)], [])
    left = [(0, 0), (0.5, 0), (0.5, 1), (0, 1)]
    assert found(region=left) == ([("roll", 0.9), ("ring", 0.8)], [[1, 0.35]])
    assert found(minimum_scores={"ring": 0.75}) == ([("roll", 0.9), ("ring", 0.8)], [[1, 0.7]])
    # Soft suppression leaves the weaker of two rings something, and lowers it.
    near = [*boxes[:2], ([300, 200, 360, 240], 0.78, 1)]
    assert found_of(near, tmp_path, suppression="by class") == [("roll", 0.9), ("ring", 0.8)]
    assert found_of(near, tmp_path, suppression="linear") == [("roll", 0.9), ("ring", 0.8)]
    soft = found_of(near, tmp_path, suppression="linear", minimum_scores={"ring": 0.2})
    assert soft == [("roll", 0.9), ("ring", 0.8), ("ring", pytest.approx(0.78 / 3, abs=1e-3))]
    for wrong, message in (
        ({"only": ["brick"]}, "does not know the class 'brick'"),
        ({"region": [(0, 0), (1, 1)]}, "three corners"),
        ({"region": [(0, 0), (2, 0), (1, 1)]}, "outside of the picture"),
    ):
        with pytest.raises(InputError, match=message):
            found(**wrong)


def found_of(boxes, place, **wished):
    order = DetectionOrder(minimum_score=0.5, **wished)
    detect(Scripted([boxes]), [Input(place / "still.jpg", "still.jpg")], place / "out", order, Silent())
    (row,) = read_record(place / "out" / "detections.jsonl")
    return [(each["class"], each["score"]) for each in row["detections"]]


class SeesWhite:
    """Finds every white square in what it is shown, wherever that was cut."""

    classes, about = ("square",), {"side": 320}

    def __init__(self):
        self.shown = []

    def candidates(self, pictures, minimum_score):
        self.shown += [each.shape[:2] for each in pictures]
        return [self._of(each) for each in pictures]

    def _of(self, pixels):
        places, count = label(pixels[:, :, 0] > 200)
        spans = find_objects(places)
        boxes = [[x.start, y.start, x.stop, y.stop] for y, x in spans]
        return Candidates(
            np.array(boxes, dtype=np.float64).reshape(-1, 4), np.full(count, 0.9), np.zeros(count, np.int64)
        )


@pytest.mark.slow
def test_large_pictures_are_looked_at_in_tiles(tmp_path):
    """Squares on the seams come out whole and once, and a picture too large for its tiles is told."""
    pixels = np.zeros((700, 1500, 3), np.uint8)
    squares = [(x, y, x + 14, y + 14) for x in range(3, 1480, 37) for y in range(5, 680, 41)]
    for x1, y1, x2, y2 in squares:
        pixels[y1:y2, x1:x2] = 255
    (tmp_path / "wide.png").write_bytes(encode_png(pixels))
    finder = SeesWhite()
    items = [Input(tmp_path / "wide.png", "wide.png")]
    order = DetectionOrder(minimum_score=0.5, tile=320, copies="none")
    summary = detect(finder, items, tmp_path / "out", order, Silent())
    (row,) = read_record(tmp_path / "out" / "detections.jsonl")
    assert sorted(tuple(each["box"]) for each in row["detections"]) == sorted(squares)
    assert summary["detections"] == len(squares) and set(finder.shown[:-3]) == {(320, 320)}
    huge = tmp_path / "huge.png"
    huge.write_bytes(encode_png(np.zeros((6000, 6000, 3), np.uint8)))
    fine = DetectionOrder(minimum_score=0.5, tile=64, copies="none")
    summary = detect(SeesWhite(), [*items, Input(huge, "huge.png")], tmp_path / "out", fine, Silent())
    assert summary["pictures"] == 1 and "more than 5,000 tiles of 64" in summary["problems"][0]


def test_so_many_frames_a_second(frames, tmp_path):
    write_clip(tmp_path / "belt.mp4", [frames[0]] * 10)
    items = [Input(tmp_path / "belt.mp4", "belt.mp4")]
    order = DetectionOrder(minimum_score=0.5, a_second=4)
    summary = detect(Scripted([rolling(n) for n in range(4)]), items, tmp_path / "out", order, Silent())
    rows = list(read_record(tmp_path / "out" / "detections.jsonl"))
    assert [row["frame"] for row in rows] == [0, 2, 5, 7] and summary["pictures"] == 4
    made = clip_info(tmp_path / "out" / "annotated" / "belt.mp4")
    shown = [frame.seconds for frame in read_frames(tmp_path / "out" / "annotated" / "belt.mp4")]
    assert made.frames == 4 and shown == pytest.approx([0, 0.2, 0.5, 0.7], abs=1e-4), (
        "when the clip shows them"
    )


@pytest.mark.slow
def test_every_so_many_frames_and_the_original_beside(frames, tmp_path):
    write_clip(tmp_path / "belt.mp4", [frames[0]] * 9)
    items = [Input(tmp_path / "belt.mp4", "belt.mp4")]
    order = DetectionOrder(minimum_score=0.5, every=4, beside=True)
    summary = detect(Scripted([rolling(n) for n in range(3)]), items, tmp_path / "out", order, Silent())
    rows = list(read_record(tmp_path / "out" / "detections.jsonl"))
    assert [row["frame"] for row in rows] == [0, 4, 8] and summary["objects"] == {"roll": 1, "ring": 1}
    made = clip_info(tmp_path / "out" / "annotated" / "belt.mp4")
    assert (made.width, made.height, made.frames) == (1920, 540, 3) and made.rate == pytest.approx(2.5)


def test_covered_copies_and_none(frames, tmp_path):
    (tmp_path / "still.png").write_bytes(encode_jpeg(frames[0].pixels))
    items = [Input(tmp_path / "still.png", "still.png")]
    detect(
        Scripted([rolling(0)]),
        items,
        tmp_path / "out",
        DetectionOrder(minimum_score=0.5, copies="filled"),
        Silent(),
    )
    covered = read_picture(tmp_path / "out" / "annotated" / "still.jpg")
    assert np.abs(covered[15:65, 15:65].astype(int) - 128).max() < 12
    assert np.abs(covered[100:190].astype(int) - frames[0].pixels[100:190]).mean() < 4
    summary = detect(
        Scripted([rolling(0)]),
        items,
        tmp_path / "bare",
        DetectionOrder(minimum_score=0.5, copies="none"),
        Silent(),
    )
    assert not (tmp_path / "bare" / "annotated").exists() and summary["copies"] == []


def test_a_model_is_given_the_same_pixels_with_and_without_copies(frames, tmp_path):
    large = np.repeat(np.repeat(frames[0].pixels, 2, axis=0), 2, axis=1)
    (tmp_path / "large.jpg").write_bytes(encode_jpeg(large))

    class Given(Scripted):
        def candidates(self, pictures, minimum_score):
            self.pixels = pictures[0]
            return super().candidates(pictures, minimum_score)

    given = []
    for copies in ("none", "boxes"):
        finder = Given([rolling(0)], {"side": 320})
        order = DetectionOrder(minimum_score=0.5, copies=copies)
        detect(finder, [Input(tmp_path / "large.jpg", "large.jpg")], tmp_path / copies, order, Silent())
        given.append(finder.pixels)
        (row,) = read_record(tmp_path / copies / "detections.jsonl")
        assert (row["width"], row["height"]) == (1920, 1080)
    np.testing.assert_array_equal(given[0], given[1])
    np.testing.assert_array_equal(given[0], read_picture(tmp_path / "large.jpg"))


def test_a_run_goes_on_after_more_inputs_have_come(frames, tmp_path):
    """The order of their names puts the new ones first; one has a name that is there already, one has gone."""
    belt, other, out = (tmp_path / name for name in ("belt", "other", "out"))
    belt.mkdir()
    other.mkdir()
    for number, name in enumerate("bde"):
        (belt / f"{name}.png").write_bytes(encode_png(frames[number].pixels))

    class ByBrightness(Scripted):
        """Finds a box as wide as the picture's mean is bright, by which it is known again."""

        def candidates(self, pictures, minimum_score):
            made = []
            for each in pictures:
                boxes = np.array([[5, 5, 5 + each.mean(), 60]])
                made.append(Candidates(boxes, np.array([0.9]), np.array([0])))
            return made

    order = DetectionOrder(minimum_score=0.5, crops=True)
    detect(ByBrightness([]), gather([belt]), out, order, StopsAfter(2))
    (belt / "a.png").write_bytes(encode_png(frames[3].pixels))
    (other / "b.png").write_bytes(encode_png(frames[4].pixels))
    (belt / "b.png").unlink()
    summary = detect(ByBrightness([]), gather([belt, other]), out, order, Silent(), go_on=True)
    rows = {row["name"]: row for row in read_record(out / "detections.jsonl")}
    shown = {"b.png": 0, "d.png": 1, "e.png": 2, "a.png": 3, "b-2.png": 4}
    assert set(rows) == set(shown) and summary["pictures"] == 5 and summary["problems"] == []
    for name, number in shown.items():
        pixels = frames[number].pixels
        x1, y1, x2, y2 = rows[name]["detections"][0]["box"]
        assert x2 == pytest.approx(5 + pixels.mean(), abs=0.01), name
        cut = read_picture(out / "crops" / rows[name]["crops"][0])
        np.testing.assert_array_equal(cut, pixels[int(y1) : int(np.ceil(y2)), int(x1) : int(np.ceil(x2))])
        copy = read_picture(out / rows[name]["annotated"])
        assert np.abs(copy[300:].astype(int) - pixels[300:]).mean() < 3
    listed = [row["crop"] for row in csv.DictReader((out / "crops.csv").open())]
    assert len(listed) == len(set(listed)) == 5


def test_names_that_are_there_twice_are_told_apart(frames, tmp_path):
    for folder in ("a", "b"):
        (tmp_path / folder).mkdir()
        (tmp_path / folder / "x.jpg").write_bytes(encode_jpeg(frames[0].pixels))
    items = [Input(tmp_path / folder / "x.jpg", "x.jpg") for folder in ("a", "b")]
    summary = detect(
        Scripted([rolling(0), rolling(0)]),
        items,
        tmp_path / "out",
        DetectionOrder(minimum_score=0.5),
        Silent(),
    )
    assert summary["copies"] == ["x.jpg", "x-2.jpg"]
    assert [row["name"] for row in read_record(tmp_path / "out" / "detections.jsonl")] == ["x.jpg", "x-2.jpg"]


def test_the_record_in_other_formats(frames, tmp_path):
    """COCO results read back against the pictures beside them; centre-text read back as labels."""
    for name in ("x.jpg", "x.png"):
        (tmp_path / name).write_bytes(encode_jpeg(frames[0].pixels))
    items = [Input(tmp_path / name, name) for name in ("x.jpg", "x.png")]
    detect(
        Scripted([rolling(0), rolling(1)]),
        items,
        tmp_path / "out",
        DetectionOrder(minimum_score=0.5),
        Silent(),
    )
    told = json.loads((tmp_path / "out" / "detections.json").read_text())["pictures"]
    with zipfile.ZipFile(tmp_path / "out" / "detections-coco.zip") as archive:
        known = json.loads(archive.read("pictures.json"))
        images = {each["id"]: place for place, each in enumerate(known["images"])}
        categories = {each["id"]: place for place, each in enumerate(known["categories"])}
        found = read_results(archive.read("results.json"), "results.json", images, categories, 2)
    for picture, row in zip(found.detections if hasattr(found, "detections") else found, told, strict=True):
        np.testing.assert_allclose(picture.boxes, [each["box"] for each in row["detections"]], atol=0.02)
    with zipfile.ZipFile(tmp_path / "out" / "detections-centre-text.zip") as archive:
        names = archive.namelist()
        assert {"x.txt", "x-2.txt"} <= {Path(each).name for each in names}
        first = archive.read(next(each for each in names if each.endswith("x.txt"))).decode().split()
    assert (
        first[0] == "0"
        and float(first[1]) == pytest.approx(40 / 960)
        and float(first[2]) == pytest.approx(40 / 540)
    )


@pytest.mark.slow
def test_sound_goes_along(frames, tmp_path):
    """A tone of two seconds beside twenty frames is heard in the copy, as long as before."""
    with av.open(str(tmp_path / "loud.mp4"), "w") as container:
        video = container.add_stream("libx264", rate=10)
        video.width, video.height, video.pix_fmt = 960, 540, "yuv420p"
        sound = container.add_stream("aac", rate=44100)
        for number in range(20):
            for packet in video.encode(av.VideoFrame.from_ndarray(frames[number % 2].pixels, format="rgb24")):
                container.mux(packet)
        times = np.arange(88200) / 44100
        tone = (0.3 * np.sin(2 * np.pi * 440 * times)).astype(np.float32)[None]
        for start in range(0, 88200, 1024):
            heard = av.AudioFrame.from_ndarray(
                np.ascontiguousarray(tone[:, start : start + 1024]), format="fltp", layout="mono"
            )
            heard.sample_rate, heard.pts = 44100, start
            for packet in sound.encode(heard):
                container.mux(packet)
        for stream in (video, sound):
            for packet in stream.encode():
                container.mux(packet)
    detect(
        Scripted([rolling(n) for n in range(20)]),
        [Input(tmp_path / "loud.mp4", "loud.mp4")],
        tmp_path / "out",
        DetectionOrder(minimum_score=0.5),
        Silent(),
    )
    with av.open(str(tmp_path / "out" / "annotated" / "loud.mp4")) as made:
        heard = np.concatenate([each.to_ndarray()[0] for each in made.decode(made.streams.audio[0])])
        assert len(heard) / 44100 == pytest.approx(2, abs=0.1) and np.abs(heard).max() > 0.2
    with av.open(str(tmp_path / "out" / "annotated" / "loud.mp4")) as made:
        assert sum(1 for _ in made.decode(made.streams.video[0])) == 20


@pytest.mark.slow
def test_a_damaged_stretch_of_a_clip_is_told_and_passed_over(frames, tmp_path):
    write_clip(tmp_path / "belt.mp4", [frames[n % 6] for n in range(60)])
    content = bytearray((tmp_path / "belt.mp4").read_bytes())
    middle = len(content) // 2
    content[middle : middle + 4000] = bytes(4000)
    (tmp_path / "belt.mp4").write_bytes(bytes(content))
    script = [rolling(n) for n in range(60)]
    summary = detect(
        Scripted(script),
        [Input(tmp_path / "belt.mp4", "belt.mp4")],
        tmp_path / "out",
        DetectionOrder(minimum_score=0.5),
        Silent(),
    )
    assert summary["pictures"] >= 20 and all("damaged" in each for each in summary["problems"])
    assert clip_info(tmp_path / "out" / "annotated" / "belt.mp4").frames == summary["pictures"]


def test_an_output_folder_that_cannot_be_written(frames, tmp_path):
    (tmp_path / "still.jpg").write_bytes(encode_jpeg(frames[0].pixels))
    items = [Input(tmp_path / "still.jpg", "still.jpg")]
    (tmp_path / "file").write_text("in the way")
    with pytest.raises(InputError, match="cannot be written"):
        detect(
            Scripted([rolling(0)]),
            items,
            tmp_path / "file" / "out",
            DetectionOrder(minimum_score=0.5),
            Silent(),
        )


def test_results_that_lie_among_the_inputs_are_no_inputs(frames, tmp_path):
    (tmp_path / "still.jpg").write_bytes(encode_jpeg(frames[0].pixels))
    for _ in range(2):
        items = gather([tmp_path], without=tmp_path)
        assert [each.name for each in items] == ["still.jpg"]
        detect(
            Scripted([rolling(0)]), items, tmp_path, DetectionOrder(minimum_score=0.5, crops=True), Silent()
        )
    (tmp_path / "still.jpg").unlink()
    with pytest.raises(InputError, match="nothing but earlier results"):
        gather([tmp_path], without=tmp_path)


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
