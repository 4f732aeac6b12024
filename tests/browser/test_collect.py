"""Collect in the real page: the grid, drawing, saving, the split, classes."""

import pytest
from selenium.webdriver.common.keys import Keys

pytestmark = [pytest.mark.browser, pytest.mark.slow]
UNLABELLED = 7


def near(corners, expected):
    return corners == pytest.approx(expected, abs=2.5)


@pytest.mark.long
def test_first_look(page):
    page.driver.get(page.address)
    page.find("stage-collect")
    page.open()
    page.find("stage-collect", "6 of 10 labelled")
    for stage, state in (("train", "No run yet"), ("judge", "Not measured yet"), ("use", "Not used yet")):
        page.find(f"stage-{stage}", state)
    page.until(lambda: len(page.all("card")) == 10, "ten pictures")
    loaded = (
        "return [...document.querySelectorAll('[data-test=card] img')].every(each => each.naturalWidth > 0)"
    )
    page.until(lambda: page.driver.execute_script(loaded), "thumbnails")
    assert page.driver.execute_script("return document.documentElement.scrollHeight") <= 800
    page.keys("?")
    page.find("keys", "Split into parts")


def test_draw_change_and_take_back(page):
    page.open_picture(UNLABELLED)
    page.stage()
    page.keys("3")
    page.drag((200, 120), (320, 240))
    page.until(lambda: len(page.boxes()) == 1, "one box")
    assert near(page.boxes()[0], (200, 120, 320, 240))
    page.saved()
    assert page.find("picture-state").text == "In progress"
    # A digit is for the next box, for this one with Shift, until it is selected by hand.
    page.find("digits-mean", "next box, Shift this one")
    page.keys("5")
    assert "loaf" in page.find("box-row").text
    page.chord(Keys.SHIFT, "5")
    page.find("box-row", "ring")
    page.tap((260, 180))
    page.find("digits-mean", "this box and new ones")
    page.drag((320, 240), (400, 300))  # by its corner
    assert near(page.boxes()[0], (200, 120, 400, 300))
    page.drag((300, 200), (350, 220))  # by its middle
    assert near(page.boxes()[0], (250, 140, 450, 320))
    before = page.boxes()[0]
    page.keys(Keys.ARROW_RIGHT)
    page.chord(Keys.SHIFT, Keys.ARROW_DOWN)
    assert page.boxes()[0] == pytest.approx([before[0] + 1, before[1] + 10, before[2] + 1, before[3] + 10])
    page.keys(Keys.DELETE)
    assert page.boxes() == []
    for _ in range(3):  # the deletion, two nudges
        page.chord(Keys.CONTROL, "z")
    assert page.boxes()[0] == before and "ring" in page.find("box-row").text
    page.click("redo")
    assert page.boxes()[0][0] == before[0] + 1
    page.click("undo")
    page.saved()
    saved = page.labels(UNLABELLED)["boxes"]
    assert saved[0]["corners"] == pytest.approx(before) and len(saved) == 1
    page.driver.refresh()
    page.until(lambda: page.boxes() == [before], "the saved box")


def test_zoom_and_pan(page):
    page.open_picture(1)
    fitted = float(page.stage().get_attribute("data-scale"))
    page.keys("+", "+")
    page.until(lambda: float(page.stage().get_attribute("data-scale")) > 1.5 * fitted, "a larger picture")
    left = float(page.stage().get_attribute("data-left"))
    script = (
        "arguments[0].dispatchEvent(new WheelEvent('wheel', {deltaY: 90, shiftKey: true, cancelable: true}))"
    )
    page.driver.execute_script(script, page.stage())
    page.until(
        lambda: float(page.stage().get_attribute("data-left")) == pytest.approx(left - 90),
        "the picture further left",
    )
    before = page.boxes()
    page.keys("0")
    page.until(lambda: float(page.stage().get_attribute("data-scale")) == fitted, "the whole picture")
    assert page.boxes() == before


@pytest.mark.long
def test_walk_along_the_pictures(page):
    page.open("collect?state=unlabelled")
    page.until(lambda: len(page.all("card")) == 4, "four unlabelled pictures")
    page.driver.find_element("css selector", ".card-open").click()
    page.find(".bar", "1 of 4")
    page.keys(".")
    page.find(".bar", "2 of 4")
    page.keys(",")
    page.find(".bar", "1 of 4")
    page.click("nothing-here")
    page.find("picture-state", "No objects")
    page.saved()
    page.keys("u")
    page.find(".name", "still-7.jpg")
    page.drag((100, 100), (180, 180))
    page.keys(Keys.ENTER)
    page.until(lambda: page.labels(8)["state"] == "done", "picture 8 done")
    page.find("stage-collect", "8 of 10 labelled")
    assert page.labels(7)["state"] == "empty"


@pytest.mark.long
def test_two_versions_and_the_person_chooses(page):
    page.allowed = ["409"]
    for keep, expected in (("keep-mine", 1), ("take-theirs", 2)):
        page.open_picture(UNLABELLED)
        page.stage()
        for _ in page.boxes():
            page.keys(Keys.TAB, Keys.DELETE)
        page.until(lambda: not page.labels(UNLABELLED)["boxes"], "the picture without boxes")
        now = page.labels(UNLABELLED)
        box = {"class_id": page.own("classes")["classes"][0]["id"], "corners": [1, 1, 50, 50]}
        body = {"revision": now["revision"], "state": "in_progress", "boxes": [box, box]}
        page.fetch(f"/pictures/{page.pictures[UNLABELLED - 1]}/labels", "PUT", body)
        page.drag((200, 120), (320, 240))
        page.find("conflict", "Saved meanwhile: 2 boxes")
        page.find("conflict", "Here: 1 box")
        page.click(keep)
        page.saved()
        page.until(lambda count=expected: len(page.boxes()) == count, f"{expected} boxes")
        assert len(page.labels(UNLABELLED)["boxes"]) == expected


def test_undo_across_pictures_asks_before_it_undoes_somebody_elses_work(page):
    """Drawn on one picture, gone on, two boxes added there by somebody else: undo keeps them unless told not to."""
    page.open_picture(UNLABELLED)
    page.stage()
    for _ in page.boxes():
        page.keys(Keys.TAB, Keys.DELETE)
    page.drag((200, 120), (320, 240))
    page.saved()
    page.keys(".")
    page.until(
        lambda: not page.driver.current_url.endswith(str(page.pictures[UNLABELLED - 1])), "the next picture"
    )
    page.stage()
    now = page.labels(UNLABELLED)
    assert len(now["boxes"]) == 1
    others = [now["boxes"][0] | {"corners": [x, 5, x + 40, 45]} for x in (5, 60)]
    body = {"revision": now["revision"], "state": "in_progress", "boxes": now["boxes"] + others}
    page.fetch(f"/pictures/{page.pictures[UNLABELLED - 1]}/labels", "PUT", body)
    page.chord(Keys.CONTROL, "z")
    page.find("conflict", "Saved meanwhile: 3 boxes")
    page.find("conflict", "Here: 0 boxes")
    assert len(page.labels(UNLABELLED)["boxes"]) == 3
    page.click("keep-both")
    page.saved()
    page.until(lambda: len(page.boxes()) == 2, "the boxes of the other one")
    assert [box["corners"][0] for box in page.labels(UNLABELLED)["boxes"]] == [5, 60]


@pytest.mark.long
def test_without_a_connection_enter_leads_to_a_page_that_says_so_and_comes_back(page):
    page.open_picture(UNLABELLED)
    page.stage()
    for _ in page.boxes():
        page.keys(Keys.TAB, Keys.DELETE)
    page.saved()
    page.connected(False)
    page.drag((200, 120), (320, 240))
    page.find("save-state", "Kept in this browser")
    # The next picture was loaded ahead; the one after it cannot be.
    page.keys(Keys.ENTER)
    page.find(".name", f"still-{UNLABELLED}.jpg")
    page.stage()
    page.keys(".")
    page.find("unreachable", "kept in this browser and sent as soon as the server answers")
    assert page.all("save-state") == []
    page.connected(True)
    page.stage()
    page.until(lambda: page.labels(UNLABELLED)["state"] == "done", "the picture before, sent", 30)
    assert len(page.labels(UNLABELLED)["boxes"]) == 1


def test_lost_connection_keeps_edits(page):
    page.open_picture(UNLABELLED)
    page.stage()
    page.connected(False)
    page.drag((200, 120), (320, 240))
    page.find("save-state", "Kept in this browser")
    page.connected(True)
    page.saved()
    assert len(page.labels(UNLABELLED)["boxes"]) == 1


@pytest.mark.long
def test_split_bin_and_their_undo(page):
    page.open("collect")
    page.until(lambda: len(page.all("card")) == 10, "ten pictures")
    before = {p["id"]: p["part"] for p in page.own("pictures")["pictures"]}
    page.chord(Keys.SHIFT, "s")
    page.click("split-now")
    page.find("split-form", "Boxes of each class")
    page.until(
        lambda: page.own("split")["unassigned"] == 0 and page.own("split")["test"] > 0,
        "a split",
    )
    page.undo()
    page.until(
        lambda: {p["id"]: p["part"] for p in page.own("pictures")["pictures"]} == before,
        "the parts of before",
    )
    page.gone(".undo-button")
    page.keys(Keys.ESCAPE)
    page.gone(".el-overlay:not([style*=none])")
    page.driver.execute_script("document.querySelector('[data-test=card] input').click()")
    page.find("chosen-bar", "1 selected")
    page.keys(Keys.DELETE)
    page.until(lambda: len(page.all("card")) == 9, "nine pictures")
    page.undo()
    page.until(lambda: len(page.all("card")) == 10, "ten pictures again")


def test_a_new_class_and_its_undo(page):
    page.open_picture(UNLABELLED)
    page.stage()
    page.find("new-class").send_keys("crumb", Keys.ENTER)
    page.find(".panel", "crumb")
    page.undo()
    page.until(lambda: "crumb" not in page.find(".panel").text, "the class gone")
    page.find("new-class").send_keys("baguette", Keys.ENTER)
    page.find(".panel", "baguette")
    page.driver.find_element("css selector", "canvas").click()
    page.keys("6")
    page.drag((200, 120), (320, 240))
    page.find("box-row", "baguette")
    page.saved()


def test_boxes_drawn_offline_are_sent_later(page):
    page.open_picture(UNLABELLED)
    page.stage()
    page.connected(False)
    page.drag((200, 120), (320, 240))
    page.find("save-state", "Kept in this browser")
    page.connected(True)
    page.driver.get("about:blank")  # as if the page had been closed before it could send anything
    if not page.labels(UNLABELLED)["boxes"]:
        page.open("collect")
        page.until(lambda: len(page.labels(UNLABELLED)["boxes"]) == 1, "the box at the server")
    page.open_picture(UNLABELLED)
    page.until(lambda: len(page.boxes()) == 1, "the box")
    page.saved()


def test_nothing_there_yet(page):
    page.project = page.fetch("/projects", "POST", {"name": "Empty"})["id"]
    page.open("collect")
    page.find("empty", "No pictures yet")
    page.open("train")
    page.find("obstacles", "no class yet")
    page.open("judge")
    page.find(".empty", "No model to judge yet")
    page.open("use")
    page.find(".empty", "No model to use yet")
    page.allowed = ["404"]
    page.project = 999
    page.open("collect")
    page.find(".notice", "there is no project 999")
