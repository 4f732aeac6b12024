"""Labelling a clip in the page: drawn once, followed, proposed, given to pictures, and quick on long clips."""

import json

import pytest
from selenium.webdriver.common.keys import Keys

from avocet.core.boxes import iou_of_pairs
from avocet.core.tracks.trajectory import trajectory
from avocet.demo.belt import MovingBelt
from avocet.media.clip_writer import ClipWriter
from avocet.store.tables import Clip
from avocet.work.clips.clips import add_clip
from avocet.work.clips.tracks import SetBox, TrackChange, TrackLabels, save_tracks
from avocet.work.labels.classes import list_classes
from tests.ready import add_trained_run

pytestmark = pytest.mark.browser


def clip_of(page):
    return page.own("clips")["clips"][0]["id"]


def objects(page, clip):
    return [each for each in page.fetch(f"/clips/{clip}/tracks")["tracks"] if each["standing"] == "kept"]


def to_frame(page, number):
    field = page.find("[data-test=frame] input")
    field.send_keys(Keys.CONTROL, "a")
    field.send_keys(str(number), Keys.ENTER)
    page.until(lambda: at_frame(page) == number, f"frame {number}")
    page.driver.execute_script("document.activeElement.blur()")


def at_frame(page):
    return int(page.find("frame").get_attribute("data-frame"))


def whole_goods(belt, number):
    """Goods that are all in a frame: their places, names and boxes."""
    frame = belt.frame(number)
    return [
        (name, box)
        for name, box in zip(frame.classes, frame.boxes.tolist(), strict=True)
        if box[1] > 30 and box[3] < 480 and box[0] > 60 and box[2] < 900
    ]


@pytest.mark.long
def test_an_object_is_drawn_once_and_followed(page):
    belt = MovingBelt(50, 12)
    clip = clip_of(page)
    page.open("collect/clips")
    page.find("clip-row", "Nobody has chosen")
    page.click("label-clip")
    page.stage()
    to_frame(page, 5)
    name, box = whole_goods(belt, 5)[0]
    order = ["roll", "croissant", "loaf", "pretzel", "ring"]
    page.keys(str(order.index(name) + 1))
    page.tap(box[:2])
    page.find("mode", "opposite corner")
    page.keys(Keys.ESCAPE)
    page.gone("[data-test=mode]")
    page.drag(box[:2], box[2:])
    page.find("object", name)
    page.until(lambda: page.find("sights").text == "5", "in sight where it was drawn")
    page.chord(Keys.SHIFT, "f")
    page.until(lambda: page.find("sights").text == "5–11", "followed to the end", 60)
    page.chord(Keys.SHIFT, "b")
    page.until(lambda: page.find("sights").text == "0–11", "followed back", 60)
    page.find("save-state", "Saved")
    (found,) = objects(page, clip)
    made = trajectory(
        found["spans"], [each["corners"] for each in found["sets"]], [each["frame"] for each in found["sets"]]
    )
    truth = [[box[0], box[1] + 6 * (n - 5), box[2], box[3] + 6 * (n - 5)] for n in range(12)]
    assert iou_of_pairs(made.boxes_at(range(12)), truth).mean() > 0.85
    assert [each["origin"] for each in found["sets"]].count("hand") == 1
    page.find("labour", "1 object on 12 object-frames")

    # Everything has its key and its way back.
    to_frame(page, 8)
    page.chord(Keys.CONTROL, Keys.END)
    page.until(lambda: page.find("sights").text.startswith("0–7"), "out of sight")
    page.chord(Keys.CONTROL, "z")
    page.until(lambda: page.find("sights").text == "0–11", "and back")
    page.keys(Keys.ARROW_RIGHT)
    page.until(lambda: "2 by hand" in page.find("origins").text, "nudged by a key, and so set here")
    page.chord(Keys.SHIFT, Keys.ENTER)
    page.until(lambda: page.find("sights").text == "8–11", "parted")
    page.find("labour", "2 objects")
    page.chord(Keys.CONTROL, "z")
    page.chord(Keys.CONTROL, "z")
    page.find("labour", "1 object on")
    page.keys(Keys.TAB)
    page.click("from-here")
    page.chord(Keys.ALT, "1")
    page.until(
        lambda: objects(page, clip)[0]["attributes"] == [{"frame": 8, "values": {"occluded": True}}],
        "an attribute from here on",
    )
    page.keys(Keys.HOME)
    page.until(lambda: at_frame(page) == 0, "its first frame")
    page.keys(Keys.END)
    page.until(lambda: at_frame(page) == 11, "its last frame")
    page.chord(Keys.CONTROL, ",")
    page.until(lambda: at_frame(page) < 11, "the set box before")
    page.keys(Keys.ESCAPE, Keys.SPACE)
    page.until(lambda: at_frame(page) == 11, "played to its end")


@pytest.mark.long
def test_proposed_objects_are_kept_refused_and_exported(page, server, sessions, tmp_path):
    with sessions.begin() as session:
        add_trained_run(session, server[1], page.project)
    clip = clip_of(page)
    page.open(f"collect/clips/{clip}")
    page.stage()
    page.chord(Keys.SHIFT, "p")
    page.find("propose", "On all 12 frames")
    page.click("start-proposing")
    many = int(page.find("proposed", "proposed", 120).text.split()[0])
    assert many > 3
    page.gone(".el-overlay:not([style*='display: none'])")
    # The first is selected.
    page.find("object", "Proposed by run")
    page.keys(Keys.ARROW_LEFT)
    page.find("proposed", f"{many - 1} object")
    page.keys(Keys.ARROW_RIGHT)
    page.find("proposed", f"{many - 2} object")
    page.click("keep-all")
    page.gone("[data-test=proposed]")
    page.find("save-state", "Saved")
    assert len(objects(page, clip)) == many - 1
    page.keys("e")
    page.find("export-form")
    page.click("write-tracks")
    page.find(".el-message", "on 12 frames in")
    job = next(each for each in page.own("jobs")["jobs"] if each["kind"] == "write_tracks")
    written = page.fetch(f"/jobs/{job['id']}/file")
    assert len({each["track_id"] for each in written["annotations"]}) == many - 1
    labels = tmp_path / "labels.json"
    labels.write_text(json.dumps(written))
    page.gone(".el-overlay:not([style*='display: none'])")
    page.keys("e")
    page.find("export-form")
    page.find("tracks-file").send_keys(str(labels))
    page.until(lambda: len(objects(page, clip)) == 2 * (many - 1), "they came back")
    # Corners where the format wants sizes: nothing is taken until somebody says which they are.
    page.gone(".el-overlay:not([style*='display: none'])")
    for each in written["annotations"]:
        x, y, width, height = each["bbox"]
        each["bbox"] = [x, y, x + width, y + height]
    labels.write_text(json.dumps(written))
    page.keys("e")
    page.find("export-form")
    page.find("tracks-file").send_keys(str(labels))
    page.find("tracks-asked", "are they corners")
    assert len(objects(page, clip)) == 2 * (many - 1)
    page.click("tracks-corners")
    page.until(lambda: len(objects(page, clip)) == 3 * (many - 1), "and now as corners")
    (*_, before, last) = (each["sets"][0]["corners"] for each in objects(page, clip)[many - 2 :: many - 1])
    assert last == pytest.approx(before, abs=0.02)
    page.undo()
    page.until(lambda: len(objects(page, clip)) == 2 * (many - 1), "taken away again")

    # Into pictures, with their boxes.
    page.gone(".el-overlay:not([style*='display: none'])")
    page.click("take-frames")
    page.find("planned", "2 frames of 12")
    page.click("finished")
    page.click("sample")
    page.until(lambda: page.own("clips")["clips"][0]["pictures"] == 2, "two pictures", 60)
    page.until(
        lambda: [p["state"] for p in page.own("pictures?name=belt-0000")["pictures"]] == ["done", "done"],
        "labelled ones",
    )


@pytest.mark.long
def test_another_tab_and_a_lost_connection(page):
    clip = clip_of(page)
    page.open(f"collect/clips/{clip}")
    page.stage()
    page.drag((300, 200), (380, 280))
    page.find("save-state", "Saved")
    (mine,) = objects(page, clip)
    x, y = mine["sets"][0]["corners"][:2]
    # Another tab moves the same object, and draws one of its own.
    moved = {key: value for key, value in mine.items() if key not in ("number", "revision")}
    moved["sets"] = [{**mine["sets"][0], "corners": [10, 10, 60, 60]}]
    changes = [{"number": mine["number"], "revision": mine["revision"], "track": moved}]
    changes.append({"number": 9, "revision": 0, "track": moved})
    page.fetch(f"/clips/{clip}/tracks", "POST", {"changes": changes})
    page.allowed = ["409"]
    page.keys(Keys.ARROW_DOWN)
    page.find("track-conflict", "1 set box")
    page.click("keep-mine")
    page.find("save-state", "Saved")
    page.until(
        lambda: [each["sets"][0]["corners"][:2] for each in objects(page, clip)] == [[x, y + 1], [10, 10]],
        "mine, and the other tab's own",
    )
    page.gone(".el-overlay:not([style*='display: none'])")
    page.connected(False)
    page.keys(Keys.ARROW_DOWN)
    page.find("save-state", "Kept in this browser")
    page.connected(True)
    page.allowed.append("409")
    page.find("save-state", "Saved")
    assert objects(page, clip)[0]["sets"][0]["corners"][1] == y + 2


@pytest.mark.long
def test_a_choice_is_kept_and_a_snapshot_takes_just_those_frames(page, server, sessions):
    clip = clip_of(page)
    page.open("collect/clips")
    page.find("clip-told", "Nobody has chosen how it is labelled")
    page.chord(Keys.SHIFT, "i")
    page.find("planned", "2 frames of 12")
    page.click("by-differing")
    page.click("keep-choice")
    page.find("clip-told", "Labelled as objects")
    page.find("clip-row", "those that differ by 10 %")
    page.gone(".el-overlay:not([style*='display: none'])")

    page.click("label-clip")
    page.stage()
    page.drag((300, 200), (380, 280))
    page.find("save-state", "Saved")
    page.click("take-frames")
    page.click("by-all")
    field = page.find("[data-test=to-frame] input")
    field.send_keys(Keys.CONTROL, "a")
    field.send_keys("3", Keys.TAB)
    page.find("planned", "4 frames of 12")
    page.click("keep-choice")
    page.gone(".el-overlay:not([style*='display: none'])")
    page.keys(Keys.ESCAPE, Keys.END)
    page.until(lambda: at_frame(page) == 3, "the last frame that counts")

    page.open("collect/snapshots")
    before = len(page.own("snapshots")["snapshots"])
    page.click("freeze")
    page.click("freeze-clip", "its object is labelled; take every frame, from frame 0 to 3")
    page.click("freeze-now")
    page.until(lambda: len(page.own("snapshots")["snapshots"]) == before + 1, "frozen", 60)
    assert page.own("clips")["clips"][0]["pictures"] == 4

    # To the bin and back, by key and by its undo.
    page.open("collect/clips")
    page.find("clip-row")
    page.keys(Keys.DELETE)
    page.find("no-clips")
    page.undo()
    page.find("clip-row", "4 frames as pictures")
    page.keys(Keys.DELETE)
    page.find("no-clips")
    page.click("bin")
    page.click("restore-clip")
    page.find("no-clips", "No clip is in the bin")
    assert [each["id"] for each in page.own("clips")["clips"]] == [clip]


@pytest.mark.long
def test_boxes_on_frames_become_objects(page):
    clip = clip_of(page)
    page.fetch(f"/clips/{clip}/frames", "POST", {"per_second": 6})
    page.until(lambda: page.own("clips")["clips"][0]["pictures"] == 6, "frames", 60)
    belt = MovingBelt(50, 12)
    name, box = whole_goods(belt, 2)[0]
    found = {each["name"]: each["id"] for each in page.own("pictures?name=belt-0000")["pictures"]}
    drawn = {"class_id": next(each["id"] for each in page.own("classes")["classes"] if each["name"] == name)}
    for frame in (2, 6, 10):
        x1, y1, x2, y2 = box
        moved = {**drawn, "corners": [x1, y1 + 6 * (frame - 2), x2, y2 + 6 * (frame - 2)], "crowd": False}
        number = next(each for known, each in found.items() if known.endswith(f"{frame:06d}.png"))
        body = {"revision": 0, "state": "done", "boxes": [{**moved, "attributes": {}, "track": None}]}
        page.fetch(f"/pictures/{number}/labels", "PUT", body)
    page.open(f"collect/clips/{clip}")
    page.stage()
    page.click("take-frames")
    page.click("gather")
    page.until(lambda: [each["spans"] for each in objects(page, clip)] == [[[2, 10]]], "one object", 60)
    page.find("labour", "1 object on 9 object-frames")
    page.gone(".el-overlay:not([style*='display: none'])")
    page.undo()
    page.until(lambda: not objects(page, clip), "undone")
    page.until(lambda: "1 object" not in page.find("labour").text, "in the desk as well")


STEPS = """
const done = arguments[0];
const desk = document.querySelector("[data-test=frame]");
const picture = document.querySelector("[data-test=frame-picture]");
const shown = [];
const waited = [];
function step() {
  const wanted = Number(desk.dataset.frame) + 1;
  window.dispatchEvent(new KeyboardEvent("keydown", { key: ".", bubbles: true }));
  let frames = 0;
  requestAnimationFrame(function look() {
    frames += 1;
    if (Number(picture.dataset.drawn) !== wanted && frames < 300) return requestAnimationFrame(look);
    shown.push(Number(picture.dataset.drawn));
    waited.push(frames);
    if (shown.length < 12) step();
    else done([shown, waited]);
  });
}
step();
"""


@pytest.mark.long
def test_hundreds_of_objects_on_ten_thousand_frames(page, server, sessions, tmp_path):
    """A step at a time as fast as the browser draws: every frame is shown, and the next one is there already."""
    import numpy as np

    path = tmp_path / "long.mp4"
    with ClipWriter(path, 96, 64, 50) as writer:
        frame = np.zeros((64, 96, 3), np.uint8)
        for number in range(10_000):
            frame[:] = number % 200
            writer.write(frame)
    with sessions.begin() as session:
        made = add_clip(session, server[1], page.project, path, "long.mp4")
        classes = [each.id for each in list_classes(session, page.project)]
        changes = []
        for number in range(300):
            first = 30 * number
            sets = [
                SetBox(first + 10 * step, (5 + step % 40, 5 + number % 20, 35 + step % 40, 30 + number % 20))
                for step in range(60)
            ]
            labels = TrackLabels(classes[number % 5], [(first, min(first + 4000, 9999))], sets)
            changes.append(TrackChange(number + 1, 0, labels))
        save_tracks(session, session.get(Clip, made.id), 10_000, changes)
        clip = made.id
    page.open(f"collect/clips/{clip}")
    page.stage()
    page.find("labour", "300 objects")
    to_frame(page, 6000)
    page.find("frame-picture")
    page.until(lambda: page.find("frame-picture").get_attribute("data-drawn") == "6000", "its picture")
    ahead = lambda: int(page.find("frame-picture").get_attribute("data-ahead"))  # noqa: E731
    page.until(lambda: ahead() >= 20, "frames that are there before they are asked for")
    page.driver.set_script_timeout(60)
    shown, waited = page.driver.execute_async_script(STEPS)
    assert shown == list(range(6001, 6013)), "every frame is shown"
    assert max(waited) <= 3, f"the next frame is on screen with the next drawing: {waited}"
