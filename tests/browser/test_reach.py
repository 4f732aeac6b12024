"""Everything can be reached: from the keyboard, by name, and with what is chosen kept on the way."""

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.browser.test_learn import start_small_run

pytestmark = [pytest.mark.browser, pytest.mark.slow]

NAMELESS = """
return [...document.querySelectorAll('button, a[href], input:not([type=hidden]), select, [role=slider], canvas, img, video')]
  .filter(each => each.offsetParent !== null && !each.closest('[aria-hidden=true]'))
  .filter(each => !(each.getAttribute('aria-label') || each.innerText?.trim() || each.title || each.alt
    || each.closest('[role=img][aria-label]') || each.placeholder || each.labels?.length || each.closest('label') || each.tagName === 'VIDEO'
    || (each.tagName === 'IMG' && each.alt === '')))
  .map(each => each.outerHTML.slice(0, 120))
"""


@pytest.mark.long
@pytest.mark.parametrize(
    "path",
    [
        "collect",
        "collect/{picture}",
        "collect/classes",
        "collect/figures",
        "collect/audit",
        "collect/snapshots",
        "train",
        "judge",
        "judge/beside",
        "judge/anatomy",
        "judge/combine",
        "use",
    ],
)
def test_every_control_has_a_name(page, path):
    page.open(path.format(picture=page.pictures[0]))
    page.find("stage-collect", "labelled")
    page.until(lambda: page.driver.find_elements(By.CSS_SELECTOR, "h1, [data-test=stage]"), "the view")
    assert page.driver.execute_script(NAMELESS) == []


def test_grid_by_keyboard(page):
    page.open("collect")
    page.until(lambda: len(page.all("card")) == 10, "ten pictures")
    page.keys(Keys.ARROW_RIGHT, Keys.ARROW_RIGHT)
    assert page.driver.execute_script("return document.activeElement.title").startswith("still-1.jpg")
    outline = page.driver.execute_script("return getComputedStyle(document.activeElement).outlineStyle")
    assert outline == "solid"
    page.keys("x")
    page.find("chosen-bar", "1 selected")
    page.keys(Keys.ARROW_RIGHT, "x")
    page.find("chosen-bar", "2 selected")
    page.keys(Keys.ESCAPE)
    page.until(lambda: not page.shown("chosen-bar"), "nothing chosen")
    page.keys(Keys.ENTER)
    page.find(".name", "still-2.jpg")
    page.stage()
    page.keys(Keys.ESCAPE)
    page.until(lambda: len(page.all("card")) == 10, "the grid again")


def test_filters_narrow_the_grid_and_stay_in_the_address(page):
    page.open("collect")
    page.until(lambda: len(page.all("card")) == 10, "ten pictures")
    page.find("input[aria-label='Name'], [aria-label='Name'] input").send_keys("still-3")
    page.until(lambda: len(page.all("card")) == 1, "one picture")
    page.until(lambda: "name=still-3" in page.driver.current_url, "the filter in the address")
    page.driver.refresh()
    page.until(lambda: len(page.all("card")) == 1, "still one picture")
    page.open("collect?part=validation")
    page.until(lambda: len(page.all("card")) == 2, "two validation pictures")
    page.find("input[aria-label='Name'], [aria-label='Name'] input").send_keys("nothing like it")
    page.find("empty", "No picture fits")


def test_chosen_pictures_move_to_a_part_and_back(page):
    page.open("collect?state=unlabelled")
    page.until(lambda: len(page.all("card")) == 4, "four pictures")
    page.chord(Keys.CONTROL, "a")
    page.find("chosen-bar", "4 selected")
    page.driver.find_elements(By.CSS_SELECTOR, "[data-test=chosen-bar] button")[2].click()
    page.until(
        lambda: sum(p["part"] == "test" for p in page.own("pictures")["pictures"]) == 4,
        "four in the test part",
    )
    page.undo()
    page.until(
        lambda: sum(p["part"] is None for p in page.own("pictures")["pictures"]) == 4,
        "four unassigned",
    )


@pytest.mark.long
def test_stages_by_key_and_help_of_each(page):
    page.open("collect")
    page.find("add")
    for key, heading, known in (
        ("t", "Train", "Start training"),
        ("j", "Judge", "Measure the model"),
        ("u", "Use", "Use: Detection runs"),
        ("c", "Collect", "Import labels"),
    ):
        page.chord(Keys.ALT, key)
        page.find(".view-head h1", heading)
        page.keys("?")
        page.find("keys", known)
        page.keys(Keys.ESCAPE)
        page.until(
            lambda: (
                not any(e.is_displayed() for e in page.driver.find_elements(By.CSS_SELECTOR, ".el-overlay"))
            ),
            "no dialog",
        )


def test_box_in_a_box_can_be_drawn_and_chosen(page):
    page.open_picture(7)
    page.stage()
    page.drag((100, 100), (400, 400))
    page.tap((600, 450))  # lets go of the outer box
    page.drag((200, 200), (300, 300))
    page.until(lambda: len(page.boxes()) == 2, "two boxes")
    page.tap((600, 450))
    page.tap((250, 250))
    chosen = page.find(".choice-row.chosen[data-test=box-row]")
    assert [round(float(v)) for v in chosen.get_attribute("data-corners").split()] == pytest.approx(
        [200, 200, 300, 300], abs=3
    )
    page.tap((120, 120))
    chosen = page.find(".choice-row.chosen[data-test=box-row]")
    assert float(chosen.get_attribute("data-corners").split()[0]) == pytest.approx(100, abs=3)
    page.keys(Keys.TAB)
    page.keys(Keys.BACKSPACE)
    page.until(lambda: len(page.boxes()) == 1, "one box")
    page.saved()


def test_boxes_stay_in_the_picture(page):
    page.open_picture(7)
    page.stage()
    page.drag((850, 400), (958, 538))
    for _ in range(3):
        page.chord(Keys.SHIFT, Keys.ARROW_RIGHT)
        page.chord(Keys.SHIFT, Keys.ARROW_DOWN)
    x1, y1, x2, y2 = page.boxes()[0]
    assert (
        (x2, y2) == (960, 540)
        and x2 - x1 == pytest.approx(108, abs=3)
        and y2 - y1 == pytest.approx(138, abs=3)
    )
    page.tap((100, 100))
    page.drag((100, 100), (101, 100))  # hardly a drag: a click
    assert len(page.boxes()) == 1
    page.saved()


def test_undo_is_still_there_after_a_walk(page):
    page.open_picture(7)
    page.stage()
    page.drag((100, 100), (200, 200))
    page.saved()
    page.keys(".")
    page.find(".name", "still-7.jpg")
    page.keys(",")
    page.find(".name", "still-6.jpg")
    page.until(lambda: len(page.boxes()) == 1, "the box")
    page.chord(Keys.CONTROL, "z")
    page.until(lambda: page.boxes() == [], "no box")
    page.saved()
    assert page.labels(7) == {"revision": 2, "state": "unlabelled", "boxes": []}


@pytest.mark.long
def test_results_on_files_from_this_computer(page, belt, tmp_path):
    start_small_run(page, 3)
    page.find("job-state", "Done", 240)
    bad = tmp_path / "bad.png"
    bad.write_text("no picture")
    page.open("use")
    page.find("use-form")
    page.find("use-files").send_keys(f"{belt / 'still-0.jpg'}\n{belt / 'still-1.jpg'}\n{bad}")
    page.find("use-form", "3 files from this computer")
    page.click("start-detection")
    page.find("box-count", "box", 240)
    page.find(".notice", "bad.png is not a JPEG")
    page.all("wall-picture")[0].click()
    loaded = "const i = document.querySelector('[data-test=wall-one] img'); return i && i.naturalWidth"
    assert page.until(lambda: page.driver.execute_script(loaded), "the picture") == 960
    page.keys(".")
    page.find("wall-one", "still-1.jpg")
    page.open(f"train/{page.run()['run']['id']}")
    page.find("download-model")
    assert page.run()["run"]["has_model"]
