"""Use: a clip with its objects counted, a folder stopped and resumed, results looked at again and collected."""

import shutil
import zipfile

import pytest
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from avocet.demo.camera import SimulatedCamera
from avocet.media.clips import clip_info
from tests.ready import add_trained_run


@pytest.fixture
def ready(page, server, sessions):
    """The page on a project with a model."""
    with sessions.begin() as session:
        page.run_id = add_trained_run(session, server[1], page.project).id
    return page


def drag_over(page, mark, start, stop):
    """Drag between two points given in parts of what is marked."""
    place = page.find(mark)
    wide, high = place.size["width"], place.size["height"]
    moves = ActionChains(page.driver)
    moves.move_to_element_with_offset(
        place, (start[0] - 0.5) * wide, (start[1] - 0.5) * high
    ).click_and_hold()
    moves.move_to_element_with_offset(
        place, (stop[0] - 0.5) * wide, (stop[1] - 0.5) * high
    ).release().perform()


def number(page, mark):
    return int(page.find(mark).text)


@pytest.mark.long
@pytest.mark.browser
def test_a_clip_with_objects_and_a_count_across_a_line(ready, server):
    page = ready
    page.open("use")
    page.find("use-form", "belt.mp4")
    page.chord(Keys.CONTROL, Keys.ENTER)
    page.find("clip", seconds=120)
    page.find("box-count", "boxes")
    page.until(lambda: page.all("found-box"), "boxes over the clip")
    assert len(page.all("clip-object")) >= 5
    run = page.own("detections")["detections"][0]
    copies = run["summary"]["copies"]
    assert copies == ["belt.mp4"] and run["summary"]["engine"].startswith("ONNX Runtime")
    place = server[1].detection(page.project, run["id"])
    assert clip_info(place / "annotated" / "belt.mp4").frames == 12
    page.keys(Keys.ARROW_RIGHT)
    page.find("frame", "Frame 1")
    page.keys(Keys.END)
    page.find("frame", "Frame 11")
    # The belt moves down by 6 pixels a frame, 66 in all: what lies a little above the line goes over it.
    page.keys("n")
    drag_over(page, "shapes", (0.02, 0.45), (0.98, 0.45))
    page.find("counted", "below")
    over = number(page, "over-forward")
    told = page.fetch(f"/detections/{run['id']}/counting")["counted"][0]
    assert (
        over == len(told["crossings"]) == sum(told["forward"].values()) >= 1
        and number(page, "over-back") == 0
    )
    page.click("counted")
    page.click("crossing")
    page.find("frame", f"Frame {told['crossings'][0]['frame']}")
    page.driver.find_element(By.XPATH, "//a[text()='Undo'] | //button[.='Undo']").click()
    page.until(lambda: not page.all("counted"), "no line after undo")
    # With a higher minimum score fewer boxes count, at once and without running again.
    before = int(page.find("box-count").text.split()[0].replace(",", ""))
    for _ in range(11):
        page.keys("]")
    page.until(lambda: int(page.find("box-count").text.split()[0]) < before, "fewer boxes")
    page.click("reset-limits")
    page.until(lambda: int(page.find("box-count").text.split()[0]) == before, "all boxes again")
    assert page.own("detections")["detections"][0]["summary"] == run["summary"]


@pytest.mark.browser
def test_chosen_results_are_sent_to_collect(ready):
    page = ready
    body = {"run_id": page.run_id, "clip_id": page.own("clips")["clips"][0]["id"], "copies": "none"}
    started = page.fetch("/detections", "POST", body)
    page.outcome(started)
    page.open(f"use/{started['id']}")
    page.click("to-wall")
    page.until(lambda: len(page.all("wall-picture")) == 12, "all frames")
    for place in (2, 5):
        page.all("wall-select")[place].click()
    page.chord(Keys.SHIFT, "k")
    page.find(".el-message", "2 pictures sent to Collect")
    listed = [each for each in page.own("pictures")["pictures"] if each["name"].startswith("belt-")]
    assert sorted(each["name"] for each in listed) == ["belt-000002.jpg", "belt-000005.jpg"]
    assert {each["state"] for each in listed} == {"unlabelled"}
    page.all("wall-picture")[3].click()
    page.find("wall-one", "frame 3")
    page.keys(".")
    page.find("wall-one", "frame 4")
    page.keys("x")
    page.find(".bar", "1 selected")
    page.keys(Keys.ESCAPE)
    page.until(lambda: page.all("wall-picture"), "the wall again")


@pytest.mark.long
@pytest.mark.browser
def test_a_folder_with_a_broken_picture_stopped_and_resumed(ready, belt, tmp_path, server):
    page = ready
    for place in range(60):
        shutil.copy(belt / f"still-{place % 10}.jpg", tmp_path / f"{place:03d}.jpg")
    (tmp_path / "017.jpg").write_bytes(b"\xff\xd8\xff broken")
    page.open("use")
    page.find("use-form")
    page.find("use-files").send_keys("\n".join(str(each) for each in sorted(tmp_path.glob("*.jpg"))))
    page.find("use-form", "60 files from this computer")
    page.click("start-detection")
    page.click("stop-detection")
    page.find("resume-detection", seconds=60)
    run = page.own("detections")["detections"][0]
    record = server[1].detection(page.project, run["id"]) / "detections.jsonl"
    done = record.read_text().count("\n") if record.exists() else 0
    assert done < 60
    page.keys("r")
    page.find("problems", "017.jpg", 120)
    assert record.read_text().count("\n") == 60 and "59 pictures" in page.find("limits").text
    kept = page.fetch(f"/detections/{run['id']}/pictures?count=100")
    assert kept["total"] == 59 and sum(len(each["boxes"]) > 0 for each in kept["pictures"]) == 59


@pytest.mark.long
@pytest.mark.browser
def test_what_was_found_against_the_labels_and_box_by_box(ready):
    """Looked at closely, with soft suppression; one label is moved away first, so that something differs."""
    page = ready
    labels = page.labels(1)
    gone = labels["boxes"].pop(0)
    extra = dict(gone, corners=[2, 2, 40, 40])
    body = {"revision": labels["revision"], "state": "done", "boxes": [*labels["boxes"], extra]}
    page.fetch(f"/pictures/{page.pictures[0]}/labels", "PUT", body)
    page.open("use")
    page.find("use-form")
    page.driver.find_element(By.XPATH, "//label[contains(., 'All 10 pictures')]").click()
    page.driver.find_element(By.CSS_SELECTOR, "[data-test=more-limits] summary").click()
    page.click("tiled")
    page.choose("[data-test=suppression]", "Soft, linear")
    page.choose("[data-test=use-copies]", "No copies")
    page.click("start-detection")
    page.find("right", "labelled pictures", 120)
    run = page.own("detections")["detections"][0]
    assert run["order"]["suppression"] == "linear" and run["order"]["tile"] >= 320
    assert not page.all("overlap-slider"), "nothing is dropped by an overlap"
    told = page.fetch(f"/detections/{run['id']}/right")
    assert told["pictures"] == 6 and told["right"] < 6
    page.click("show-wrong")
    page.until(lambda: len(page.all("wall-picture")) == 6 - told["right"], "those that differ")
    page.all("wall-picture")[0].click()
    page.find("wall-one")
    assert page.all("missed-box") and any("not labelled" in each.text for each in page.all("found-box"))
    page.click("to-boxes")
    rows = page.until(lambda: page.all("box-row"), "boxes")

    def score_of(row):
        return float(row.find_elements(By.CSS_SELECTOR, "td")[2].text)

    scores = [score_of(each) for each in rows]
    assert scores == sorted(scores)
    crop = rows[0].find_element(By.TAG_NAME, "img")
    page.until(lambda: int(crop.get_attribute("naturalWidth")) > 10, "the first crop")
    page.choose("[data-test=box-sort]", "Surest first")
    page.until(lambda: score_of(page.all("box-row")[0]) >= max(scores), "the surest")
    page.keys(Keys.ARROW_DOWN)
    page.keys(Keys.ENTER)
    page.find("wall-one", "boxes")


@pytest.mark.long
@pytest.mark.browser
def test_the_camera_of_this_computer(ready):
    """The browser's own simulated one: its frames are sent, looked at, and told to stay away when the page has gone."""
    page = ready
    page.open("use/live")
    page.find(".empty", "New camera or watched folder")
    page.keys("n")
    page.click("live-here")
    page.find("live-name").send_keys("Desk")
    page.click("start-live")
    page.until(lambda: int(page.find("frames-sent").text) > 3, "frames that are sent", 60)
    page.until(lambda: page.find("live-state").text == "Live", "a live picture", 60)
    page.until(lambda: float(page.find("live-speed").text) > 0.5, "frames a second", 30)
    live = page.own("live")["live"][0]
    assert live["source"] == "this computer"
    page.open("use")
    page.find("use-form")
    page.open("use/live")
    page.until(lambda: page.find("live-state").text == "Live", "it goes on when the page is back", 30)
    page.fetch(f"/live/{live['id']}/stop", "POST")


@pytest.mark.browser
def test_a_model_leaves_as_onnx(ready, server):
    page = ready
    page.open(f"train/{page.run_id}")
    page.click("download-model")
    page.click("download-onnx")
    exports = server[1].root / "exports"

    def is_there():
        """Among what other tests have made there: a whole file of the graph and its script."""
        made = (
            [each for each in exports.glob("*.zip") if zipfile.is_zipfile(each)] if exports.is_dir() else []
        )
        return any(
            zipfile.ZipFile(each).namelist() == ["model.onnx", "find_boxes.py", "README.txt"] for each in made
        )

    page.until(is_there, "the file")


@pytest.mark.long
@pytest.mark.browser
def test_8_bits_are_tried_by_key_and_told(ready):
    page = ready
    page.open(f"train/{page.run_id}")
    page.find("download-model")
    page.keys("5")
    page.find("eight-bits-act", "Try 8 bits")
    page.keys("Q")
    said = page.find("eight-bits-said", "8 bits are", seconds=120).text
    rows = [row.text for row in page.find("eight-bits").find_elements(By.CSS_SELECTOR, "tbody tr")]
    assert [row.split()[0] for row in rows] == ["32", "8", "Change"]
    assert all(row.endswith("MB") for row in rows[:2]) and rows[2].endswith("times as quick")
    if said.startswith("8 bits are used"):
        page.keys("Q")
        page.find("eight-bits-said", "32 bits are used again")
    page.find("eight-bits-act", "Try 8 bits again")


@pytest.mark.long
@pytest.mark.browser
def test_an_address_is_made_called_switched_and_taken_back(ready, belt, server, sessions):
    page = ready
    with sessions.begin() as session:
        add_trained_run(session, server[1], page.project, "Second")
    page.open("use/addresses")
    page.find(".empty", "No address yet")
    page.keys("n")
    name = f"belt-{page.project}"
    page.find("address-name").send_keys(name)
    page.click("create-address")
    page.find("address-url", f"/api/v1/addresses/{name}/detections")
    page.find("key-name").send_keys("line 2")
    page.click("make-key")
    key = page.find("key-told").text.split()[0]
    page.until(lambda: key in page.find("example").text, "the key in the example")
    page.find("try-file").send_keys(str(belt / "still-0.jpg"))
    page.find("try-answer", "Second found", 60)
    assert len(page.all("found-box")) >= 4
    page.choose("[data-test=answer-with]", "Belt, mAP 0.970 at 0.5")
    page.click("answer-now")
    page.find(".columns", "Answers with Belt")
    page.find("try-file").send_keys(str(belt / "still-1.jpg"))
    page.find("try-answer", "Belt found", 60)
    page.driver.find_element(By.CSS_SELECTOR, "main details summary").click()
    page.click("back-to")
    page.find(".columns", "Answers with Second")
    page.click("revoke-key")
    page.until(lambda: "revoked" in page.find("key-row").text, "a key that is revoked")
    page.allowed.append("401")
    page.find("try-file").send_keys(str(belt / "still-0.jpg"))
    page.find("try-answer", "401")
    calls = page.own("addresses")["addresses"][0]
    assert [each["name"] for each in calls["models"]] == ["Second", "Belt", "Second"]
    page.click("bin-address")
    page.find(".empty", "No address yet")
    assert page.own("addresses?binned=true")["addresses"][0]["name"] == name


@pytest.mark.long
@pytest.mark.browser
def test_a_camera_is_seen_live_stalls_and_comes_back(ready):
    page = ready
    camera = SimulatedCamera(rate=6)
    camera.start()
    try:
        page.open("use/live")
        page.find(".empty", "Nothing live yet")
        page.keys("n")
        page.find("camera-address").send_keys(camera.address)
        page.find("live-name").send_keys("Line 2")
        page.click("start-live")
        page.find("live-state", "Live", 90)
        page.until(lambda: len(page.all("found-box")) >= 2, "boxes over the live picture")
        page.until(lambda: 0 < int(page.find("live-delay").text) < 3000, "the delay")
        camera.change({"stall": ["4"]})
        page.find("live-state", "Stalled", 20)
        page.find("live-message", "No frame for")
        page.find("live-state", "Live", 20)
        page.chord(Keys.SHIFT, "o")
        page.find("recording", ".mp4", 20)
        page.chord(Keys.SHIFT, "o")
        page.until(lambda: not page.all("recording"), "the recording ended", 20)
        page.find(".live", "boxes")
        page.chord(Keys.CONTROL, ".")
        page.find("resume-live", seconds=30)
        page.keys("r")
        page.find("live-state", "Live", 60)
        page.click("stop-live")
        page.find("resume-live", seconds=30)
    finally:
        camera.close()
