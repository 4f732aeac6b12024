"""Drawing in the real page: every gesture and key, and a picture with very many boxes."""

import numpy as np
import pytest
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from avocet.core.boxes import iou
from avocet.demo.belt import render_still
from avocet.media.pictures import encode_jpeg
from avocet.store.tables import JobState, PictureState
from avocet.work.job_givens import FolderToTake
from avocet.work.job_kinds import TAKE_FOLDER
from avocet.work.jobs import create_job
from avocet.work.labels.boxes import save_labels
from avocet.work.labels.classes import list_classes
from avocet.work.pictures.adding import add_picture
from tests.gestures import BOXES, GESTURES, very_many_boxes, write_large_picture

pytestmark = [pytest.mark.browser, pytest.mark.slow]
UNLABELLED = 7


def count(page, boxes):
    page.until(lambda: len(page.boxes()) == boxes, f"{boxes} boxes")


def names(page):
    return [row.text.split("\n")[1] for row in page.all("box-row")]


def test_a_box_by_two_clicks(page):
    page.open_picture(UNLABELLED)
    page.stage()
    page.tap((200, 120))
    page.find("mode", "opposite corner")
    page.tap((320, 240))
    count(page, 1)
    assert page.boxes()[0] == pytest.approx((200, 120, 320, 240), abs=2.5)
    page.keys(Keys.ESCAPE)  # lets go of the box
    page.tap((500, 300))
    page.find("mode", "opposite corner")
    page.keys(Keys.ESCAPE)
    page.gone("[data-test=mode]")
    count(page, 1)


def test_zoom_and_pan_in_the_midst_of_a_box(page):
    page.open_picture(UNLABELLED)
    page.stage()
    page.tap((200, 120))
    page.find("mode", "opposite corner")
    page.keys("+", "+")
    before = float(page.stage().get_attribute("data-left"))
    chain = ActionChains(page.driver, duration=20)
    chain.key_down(" ").click_and_hold().move_by_offset(40, 0).release().key_up(" ").perform()
    page.until(lambda: float(page.stage().get_attribute("data-left")) != before, "the picture moved")
    page.keys("0")
    page.tap((320, 240))
    count(page, 1)
    assert page.boxes()[0] == pytest.approx((200, 120, 320, 240), abs=2.5)


def test_tighten_and_stamp(page):
    truths = render_still(UNLABELLED - 1).boxes
    page.open_picture(UNLABELLED)
    page.stage()
    truth = max(truths.tolist(), key=lambda box: min(box[0], box[1], 960 - box[2], 540 - box[3]))
    width, height = truth[2] - truth[0], truth[3] - truth[1]
    page.drag(
        (truth[0] - 0.12 * width, truth[1] - 0.12 * height),
        (truth[2] + 0.12 * width, truth[3] + 0.12 * height),
    )
    count(page, 1)
    loose = page.boxes()[0]
    page.keys("t")
    page.find("mode", "1 box would be tighter")
    page.keys(Keys.ESCAPE)
    page.gone("[data-test=mode]")
    assert page.boxes()[0] == loose, "shown, and left as it was"
    page.keys("t")
    page.find("mode", "would be tighter")
    page.keys("t")
    page.until(lambda: page.boxes()[0] != loose, "a tighter box")
    assert iou([page.boxes()[0]], [truth])[0, 0] > iou([loose], [truth])[0, 0] + 0.1
    page.chord(Keys.CONTROL, "z")
    page.until(lambda: page.boxes()[0] == loose, "the loose box")
    page.keys(Keys.DELETE, "s")
    page.find("mode", "Stamping")
    page.tap(((truth[0] + truth[2]) / 2, (truth[1] + truth[3]) / 2))
    count(page, 1)
    page.until(lambda: iou([page.boxes()[0]], [truth])[0, 0] > 0.8, "a stamped, tightened box")
    page.keys("s")
    page.gone("[data-test=mode]")
    page.saved()


def test_a_box_from_the_keyboard_alone(page):
    truths = render_still(UNLABELLED - 1).boxes
    truth = max(truths.tolist(), key=lambda box: min(box[0], box[1], 960 - box[2], 540 - box[3]))
    page.open_picture(UNLABELLED)
    page.stage()
    page.keys("1", "b")
    count(page, 1)
    x1, y1, x2, y2 = page.boxes()[0]
    right, down = (truth[0] + truth[2] - x1 - x2) / 2, (truth[1] + truth[3] - y1 - y2) / 2
    for keys, distance in (
        ((Keys.ARROW_LEFT, Keys.ARROW_RIGHT), right),
        ((Keys.ARROW_UP, Keys.ARROW_DOWN), down),
    ):
        chain = ActionChains(page.driver).key_down(Keys.SHIFT)
        for _ in range(round(abs(distance) / 10)):
            chain.send_keys(keys[distance > 0])
        chain.key_up(Keys.SHIFT).perform()
    grown = ActionChains(page.driver).key_down(Keys.CONTROL)
    for key, length in (
        (Keys.ARROW_RIGHT, truth[2] - truth[0] - x2 + x1),
        (Keys.ARROW_DOWN, truth[3] - truth[1] - y2 + y1),
    ):
        for _ in range(max(0, round(length / 2))):
            grown.send_keys(key)
    grown.key_up(Keys.CONTROL).perform()
    page.keys("t")
    page.find("mode", "would be tighter")
    page.keys("t")
    page.until(lambda: iou([page.boxes()[0]], [truth])[0, 0] > 0.8, "a box that fits")
    page.keys(Keys.ENTER)
    page.until(lambda: page.labels(UNLABELLED)["state"] == "done", "it done")


def test_copying_along_the_belt(page):
    page.open_picture(UNLABELLED)
    page.stage()
    page.keys("2")
    page.drag((100, 100), (160, 160))
    page.keys(Keys.ESCAPE, "4")
    page.drag((300, 300), (380, 360))
    page.saved()
    page.keys("d")
    count(page, 3)
    assert page.boxes()[2] == pytest.approx(np.add(page.boxes()[1], 10), abs=0.2)
    page.chord(Keys.CONTROL, "c")
    page.saved()
    page.keys(".")
    page.find(".name", "still-7.jpg")
    page.stage()
    page.chord(Keys.CONTROL, "v")
    count(page, 1)
    page.keys("p")
    count(page, 3)
    page.find(".el-message", "1 is here already")
    assert names(page) == ["pretzel", "croissant", "pretzel"]
    for _ in range(2):
        page.chord(Keys.CONTROL, "z")
    count(page, 0)
    page.keys("o")
    page.tap((120, 120))  # on the outline of the first box
    count(page, 1)
    assert names(page) == ["croissant"]
    page.saved()


@pytest.mark.long
def test_no_key_is_lost_while_pictures_settle(page):
    page.open_picture(1)
    page.stage()
    # Slower answers than a hand needs: every press comes before its picture is there.
    page.slowed(150)
    page.keys(*"........")
    page.find(".name", "still-8.jpg")
    page.keys(*",,")
    page.find(".name", "still-6.jpg")
    page.stage()
    # A class, a box, done, and on; twice, without looking.
    page.keys("2", "b", Keys.ENTER, "3", "b", "b", Keys.ENTER, Keys.ENTER)
    page.find(".name", "still-9.jpg")
    page.stage()
    page.slowed(0)
    # Each picture is saved by itself: one that was left earlier may be saved later.
    wanted = {7: "done", 8: "done", 9: "empty"}
    page.until(
        lambda: all(page.labels(number)["state"] == state for number, state in wanted.items()),
        "all of them saved",
    )
    assert page.labels(10)["state"] == "unlabelled"
    own = {each["id"]: each["name"] for each in page.own("classes")["classes"]}
    found = [[own[box["class_id"]] for box in page.labels(number)["boxes"]] for number in (7, 8)]
    assert found == [["croissant"], ["loaf", "loaf"]]
    # Whoever leans on a key calls no picture done.
    page.keys(",")
    page.find(".name", "still-8.jpg")
    page.stage()
    hold = "document.body.dispatchEvent(new KeyboardEvent('keydown', {key: 'Enter', bubbles: true, repeat: true}))"
    for _ in range(3):
        page.driver.execute_script(hold)
    page.keys(".")
    page.find(".name", "still-9.jpg")
    assert page.labels(10)["state"] == "unlabelled"


def test_a_class_is_found_by_typing_and_made_there(page):
    names = [f"kind {number}" for number in range(6, 13)]
    page.own("classes/pasted", "POST", {"text": "\n".join(names)})
    page.open_picture(UNLABELLED)
    page.stage()
    # The class of number 12, by its two digits.
    page.keys("1", "2")
    page.drag((200, 120), (320, 240))
    page.find("box-row", "kind 12")
    page.keys("/")
    page.find("class-typed")
    page.until(lambda: page.driver.switch_to.active_element.tag_name == "input", "the field in focus")
    page.keys(*"preT", Keys.ENTER)
    page.gone(".el-overlay:not([style*=none])")
    page.find(".choice-row.chosen", "pretzel")
    assert "kind 12" in page.find("box-row").text
    page.keys("/")
    page.until(lambda: page.all("class-found")[:2], "the classes")
    page.until(lambda: page.all("class-found")[0].text.endswith("pretzel"), "the last used first")
    assert page.all("class-found")[1].text.endswith("kind 12")
    page.keys(*"bagel", Keys.ENTER)
    page.find(".choice-row.chosen", "bagel")
    page.gone(".el-overlay:not([style*=none])")
    # The keys are the picture's again.
    page.keys(Keys.TAB, "4")
    page.find("box-row", "pretzel")
    page.saved()


def test_nobody_draws_into_hidden_boxes(page):
    page.open_picture(1)
    page.stage()
    had = len(page.boxes())
    page.chord(Keys.SHIFT, "h")
    page.find("mode", "Boxes are hidden")
    page.drag((20, 20), (90, 90))
    page.find(".el-message", "they are shown again")
    assert page.all("mode") == [] and len(page.boxes()) == had
    page.drag((20, 20), (90, 90))
    count(page, had + 1)


@pytest.mark.long
def test_undo_walks_back_across_pictures(page):
    page.open_picture(UNLABELLED)
    page.stage()
    page.drag((100, 100), (160, 160))
    page.saved()
    page.keys(".")
    page.find(".name", "still-7.jpg")
    page.stage()
    page.drag((200, 200), (300, 300))
    page.saved()
    page.chord(Keys.CONTROL, "z")
    count(page, 0)
    page.chord(Keys.CONTROL, "z")
    page.find(".name", "still-6.jpg")
    page.until(lambda: page.labels(UNLABELLED)["boxes"] == [], "the first box gone")
    page.chord(Keys.CONTROL, "y")
    page.until(lambda: len(page.labels(UNLABELLED)["boxes"]) == 1, "the first box again")
    page.chord(Keys.CONTROL, "y")
    page.find(".name", "still-7.jpg")
    page.until(lambda: len(page.labels(UNLABELLED + 1)["boxes"]) == 1, "the second box again")


def test_several_boxes_at_once(page):
    page.open_picture(UNLABELLED)
    page.stage()
    for x in (100, 200, 300):
        page.drag((x, 100), (x + 50, 150))
        page.keys(Keys.ESCAPE)
    page.tap((120, 120))
    chain = ActionChains(page.driver, duration=20).key_down(Keys.CONTROL)
    for x in (220, 320):
        chain.move_to_element_with_offset(page.stage(), *page._on_screen((x, 120))).click()
    chain.key_up(Keys.CONTROL).perform()
    page.find("box-details", "and 2 more selected")
    page.keys("3", Keys.ARROW_DOWN)
    assert names(page) == ["loaf"] * 3 and [box[1] for box in page.boxes()] == pytest.approx(
        [101] * 3, abs=1.5
    )
    page.chord(Keys.CONTROL, Keys.SHIFT, Keys.ARROW_RIGHT)
    assert [round(box[2] - box[0]) for box in page.boxes()] == pytest.approx([60] * 3, abs=2)
    page.chord(Keys.ALT, "1")
    page.saved()
    assert [box["attributes"] for box in page.labels(UNLABELLED)["boxes"]] == [{"occluded": True}] * 3
    page.keys(Keys.DELETE)
    count(page, 0)
    page.saved()


def test_a_pass_for_one_class(page):
    page.open_picture(1)
    page.stage()
    page.keys("1", "q")
    page.find("mode", "Only roll")
    other = next(box for box, name in zip(page.boxes(), names(page), strict=True) if name != "roll")
    page.tap(((other[0] + other[2]) / 2, (other[1] + other[3]) / 2))
    page.find("mode", "opposite corner")  # not chosen: it is out of reach
    page.keys(Keys.ESCAPE)
    rolls = names(page).count("roll")
    page.keys(Keys.TAB)
    assert "roll" in page.find(".choice-row.chosen[data-test=box-row]").text and rolls
    page.keys(".")
    page.find(".name", "still-1.jpg")
    page.find("mode", "Only roll")
    page.keys("q")
    page.gone("[data-test=mode]")
    page.chord(Keys.SHIFT, "h")
    page.find("mode", "Boxes are hidden")
    page.chord(Keys.SHIFT, "h")
    page.keys(Keys.TAB, "h")
    page.find("mode", "Only the selected box")


def test_sizes_and_looks_are_remembered(page):
    page.open_picture(1)
    page.stage()
    page.keys(Keys.TAB)
    width, height = (page.boxes()[0][i + 2] - page.boxes()[0][i] for i in (0, 1))
    page.find("box-details", f"{round(width * 384 / 960, 1):g} × {round(height * 384 / 960, 1):g}")
    script = "localStorage.setItem('avocet.side', '64'); localStorage.setItem('avocet.looks', JSON.stringify({brightness: 200}))"
    page.driver.execute_script(script)
    page.driver.refresh()
    page.stage()
    page.keys(Keys.TAB)
    page.find("box-details", "hardly learnt at this side")
    shown = page.driver.execute_script("return getComputedStyle(document.querySelector('.picture')).filter")
    assert shown.startswith("brightness(2)")
    page.keys("v")
    page.find("looks-panel", "Contrast")
    page.keys("v")
    page.driver.execute_script("localStorage.clear()")


@pytest.mark.long
def test_many_boxes_on_a_large_picture_cost_no_more_than_few(page, server, sessions, tmp_path):
    """500 boxes on 3840×2160: panning, zooming and dragging change a handful of things a frame, not one for each box.

    The frames that this keeps are measured by ``make bench gestures``.
    """
    path = tmp_path / "large.jpg"
    write_large_picture(path)
    with sessions.begin() as session:
        classes = [each.id for each in list_classes(session, page.project)]
        picture = add_picture(session, server[1], page.project, path, "large.jpg").picture
        save_labels(session, picture, 0, very_many_boxes(classes), PictureState.IN_PROGRESS)
        picture_id = picture.id
    page.open(f"collect/{picture_id}")
    page.stage()
    count(page, BOXES)
    page.driver.set_script_timeout(60)
    found = page.driver.execute_async_script(GESTURES, 60)
    changes = {name: each["changes"] for name, each in found.items()}
    assert changes["panning"] > 1 and changes["zooming"] > 1, "the gestures were taken"
    assert max(changes.values()) < 10, changes
    count(page, BOXES + 1)
    page.saved()


@pytest.mark.long
def test_a_picture_that_changed_where_it_lies_is_named(page, server, sessions, tmp_path):
    page.allowed = ["422", "404"]
    path = tmp_path / "outside.jpg"
    path.write_bytes(encode_jpeg(render_still(31).pixels))
    with sessions.begin() as session:
        added = add_picture(session, server[1], page.project, path, "outside.jpg", keep="in place").picture.id
    page.open(f"collect/{added}")
    page.stage()
    path.write_bytes(encode_jpeg(render_still(32).pixels))
    page.driver.execute_cdp_cmd("Network.clearBrowserCache", {})
    page.driver.refresh()
    page.find("stage-failed", "outside.jpg was changed on disk after it was added")
    path.unlink()
    page.driver.refresh()
    page.find("stage-failed", "outside.jpg is not in the folder")


def test_what_was_broken_off_goes_on(page, server, sessions, tmp_path, belt):
    """A job left by a killed worker is offered again, and takes in what is missing."""
    shelf = tmp_path / "shelf"
    shelf.mkdir()
    (shelf / "late.jpg").write_bytes(encode_jpeg(render_still(33).pixels))
    with sessions.begin() as session:
        given = FolderToTake(project_id=page.project, path=str(shelf), copied=True)
        job = create_job(session, page.project, TAKE_FOLDER, "Take pictures from shelf", given)
        job.state = JobState.INTERRUPTED
    page.open("collect")
    page.find("broken-off", "Take pictures from shelf")
    page.driver.find_element("css selector", "[data-test=broken-off] button").click()
    page.until(lambda: page.own("pictures?name=late")["total"] == 1, "the picture taken in")
    page.gone("[data-test=broken-off]")
