"""Classes, figures, audit, snapshots and very many pictures in the real page."""

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from avocet.store.tables import Picture, PictureState
from avocet.work.labels.boxes import NewBox, boxes_from, labels_of, save_labels
from avocet.work.pictures.files import get_picture

pytestmark = [pytest.mark.browser, pytest.mark.slow]


def classes(page):
    return {each["name"]: each for each in page.own("classes")["classes"] if not each["retired"]}


def undo(page, said="Undo"):
    """Take a change back, and wait for its message to go."""
    page.undo(said)
    page.gone(".undo-button")


@pytest.mark.long
def test_classes_are_renamed_merged_retired_and_all_taken_back(page):
    page.open("collect/classes")
    page.until(lambda: len(page.all("class-row")) == 5, "five classes")
    before = classes(page)
    field = page.find("[aria-label='Name of ring']")
    field.send_keys(Keys.CONTROL, "a")
    field.send_keys("bagel", Keys.ENTER)
    page.until(lambda: "bagel" in classes(page), "the new name")
    undo(page)
    page.until(lambda: "ring" in classes(page), "the old name")
    page.driver.find_element(By.CSS_SELECTOR, "[data-test=merge]").click()
    page.find(".el-dialog", f"{before['roll']['boxes']} boxes of roll")
    page.click("merge-now")
    page.until(lambda: "roll" not in classes(page), "one class fewer")
    assert classes(page)["croissant"]["boxes"] == before["roll"]["boxes"] + before["croissant"]["boxes"]
    undo(page)
    page.until(lambda: classes(page) == before, "everything as before")
    page.driver.find_elements(By.CSS_SELECTOR, "[data-test=retire]")[-1].click()
    page.find(".el-dialog", "snapshots")
    page.click("retire-now")
    page.find("classes", "Restore")
    undo(page)
    page.until(lambda: classes(page) == before, "everything as before")
    page.click("paste-classes")
    page.find("[data-test=pasted]").send_keys("bun\nbraid\n")
    page.click("paste-now")
    page.until(lambda: list(classes(page))[-2:] == ["bun", "braid"], "two more classes")
    page.gone(".el-overlay:not([style*=none])")
    page.keys(*[Keys.ARROW_UP] * 8, Keys.ARROW_DOWN)
    page.chord(Keys.SHIFT, Keys.ARROW_UP)
    page.until(lambda: list(classes(page))[:2] == ["croissant", "roll"], "another order")


@pytest.mark.long
def test_attributes_are_made_and_used(page):
    page.open("collect/classes")
    page.find("add-attribute").send_keys("burnt", Keys.ENTER)
    page.find("attributes", "burnt")
    page.open_picture(1)
    page.stage()
    page.keys(Keys.TAB)
    page.chord(Keys.ALT, "4")
    page.saved()
    assert page.labels(1)["boxes"][0]["attributes"] == {"burnt": True}
    page.open("collect?attribute=burnt")
    page.until(lambda: len(page.all("card")) == 1, "one picture with a burnt box")
    page.open("collect/classes")
    page.click("[data-test=attribute-burnt] [data-test=edit-attribute]")
    page.find("attribute-name").send_keys(" black", Keys.ENTER)
    page.find("[data-test='attribute-burnt black']", "1")
    page.find(".el-message", "burnt renamed to burnt black on 1 box")
    assert page.labels(1)["boxes"][0]["attributes"] == {"burnt black": True}
    page.click("[data-test='attribute-burnt black'] [data-test=remove-attribute]")
    page.until(lambda: page.labels(1)["boxes"][0]["attributes"] == {}, "it gone")
    # The message of the renaming may still be there, with a way back of its own.
    page.undo("removed")
    page.until(lambda: page.labels(1)["boxes"][0]["attributes"] == {"burnt black": True}, "it again")
    page.find("attributes", "burnt black")


def test_figures(page):
    page.open("collect/figures")
    page.find("figures", "Left to label")
    page.find("advice", "At side 384 no box is under 8 pixels")
    canvases = "return [...document.querySelectorAll('.plot canvas')].filter(each => each.width > 100).length"
    page.until(lambda: page.driver.execute_script(canvases) == 3, "three plots")


@pytest.fixture
def planted(page, sessions):
    """Three planted mistakes: a wrong class, a doubled box, a crumb of a box."""
    named = classes(page)
    with sessions.begin() as session:
        first = next(
            picture
            for picture in (get_picture(session, each) for each in page.pictures[:6])
            if any(box.class_id == named["loaf"]["id"] for box in picture.boxes)
        )
        given = boxes_from(labels_of(first))
        wrong = next(i for i, box in enumerate(given) if box.class_id == named["loaf"]["id"])
        given[wrong] = NewBox(named["ring"]["id"], given[wrong].corners)
        save_labels(session, first, first.revision, given, PictureState.DONE)
        second = get_picture(session, next(each for each in page.pictures[:6] if each != first.id))
        given = boxes_from(labels_of(second))
        x1, y1, x2, y2 = given[0].corners
        given += [NewBox(given[0].class_id, (x1, y1, x2 - 1, y2)), NewBox(given[0].class_id, (5, 5, 8, 30))]
        save_labels(session, second, second.revision, given, PictureState.DONE)
        return first.id, wrong, second.id, len(given)


@pytest.mark.long
def test_planted_mistakes_are_found_and_mended(page, planted):
    first, wrong, second, boxes = planted
    page.open("collect/audit")
    page.find("findings", "Under 4 pixels")
    page.find("findings", "Two boxes on one object")
    tiny = next(row for row in page.all("finding") if "3.0×25.0" in row.text)
    tiny.find_element(By.CSS_SELECTOR, "[data-test=mend]").click()
    page.until(
        lambda: len(page.fetch(f"/pictures/{second}")["labels"]["boxes"]) == boxes - 1, "the crumb gone"
    )
    undo(page)
    page.find("findings", "Under 4 pixels")
    doubled = next(row for row in page.all("finding") if "overlap with an IoU" in row.text)
    doubled.find_elements(By.CSS_SELECTOR, "[data-test=mend]")[1].click()
    page.until(lambda: "overlap with an IoU" not in page.find("findings").text, "the double gone")
    page.click("audit-ring")
    page.until(lambda: page.all("crop"), "crops")
    page.until(lambda: page.all("crop")[0].text not in ("", "0.00"), "a look at the boxes", 60)
    corners = page.fetch(f"/pictures/{first}")["labels"]["boxes"][wrong]["corners"]
    sources = [crop.find_element(By.TAG_NAME, "img").get_attribute("src") for crop in page.all("crop")]
    place = next(
        i for i, source in enumerate(sources) if f"/{first}/" in source and f"x1={corners[0]:g}&" in source
    )
    assert place < len(sources) / 2
    page.all("crop")[place].click()
    page.find("sheet-chosen", "1 selected")
    page.click("turn-loaf")
    loaf = classes(page)["loaf"]["id"]
    page.until(
        lambda: page.fetch(f"/pictures/{first}")["labels"]["boxes"][wrong]["class_id"] == loaf,
        "the class mended",
    )
    undo(page, "turned into loaf")
    ring = classes(page)["ring"]["id"]
    page.until(
        lambda: page.fetch(f"/pictures/{first}")["labels"]["boxes"][wrong]["class_id"] == ring,
        "the class of before",
    )


def test_fine_as_it_is_stays_quiet_and_the_way_back(page, planted):
    page.open("collect/audit")
    page.find("findings", "Under 4 pixels")
    row = next(row for row in page.all("finding") if "3.0×25.0" in row.text)
    row.find_element(By.CSS_SELECTOR, "[data-test=fine]").click()
    page.until(lambda: "3.0×25.0" not in page.find("findings").text, "it quiet")
    page.driver.refresh()
    page.find("findings", "Two boxes on one object")
    assert "3.0×25.0" not in page.find("findings").text
    page.click("audit-roll")
    page.until(lambda: page.all("crop"), "crops")
    page.keys(Keys.ARROW_RIGHT, Keys.ARROW_RIGHT, Keys.ENTER)
    page.stage()
    page.find(".choice-row.chosen[data-test=box-row]", "roll")
    page.keys(Keys.ESCAPE, Keys.ESCAPE)
    page.until(lambda: page.all("crop"), "the sheet again")
    assert "class=" in page.driver.current_url


FIRST_BYTES = """
const [address, done] = arguments;
fetch(address).then(reply => reply.arrayBuffer()).then(all => done([...new Uint8Array(all.slice(0, 4))]));
"""


@pytest.mark.long
def test_snapshots_are_frozen_compared_and_taken_away(page):
    page.open("collect/snapshots")
    page.click("freeze")
    page.find("snapshot-name").send_keys("First")
    page.click("freeze-now")
    page.find("snapshot-detail", "6 pictures")
    page.gone(".el-overlay:not([style*=none])")
    page.click("freeze")
    page.find("snapshot-name").send_keys("One kind")
    page.choose("[data-test=becomes-ring]", "Merged into roll")
    page.click("freeze-now")
    page.until(lambda: len(page.all("snapshot")) == 2, "two snapshots")
    page.until(lambda: "ring" not in page.find("snapshot-detail").text, "no ring")
    page.choose("[data-test=compare-with]", "First")
    page.find("comparison", "ring became roll")
    page.click("archive")
    page.click("archive-now")
    link = page.find("archive-download").get_attribute("href")
    archive = page.driver.execute_async_script(FIRST_BYTES, link)
    assert archive == [80, 75, 3, 4], "not a zip file"


@pytest.mark.long
def test_a_hundred_thousand_pictures(page, sessions):
    """Only what is in sight exists, wherever one scrolls to, and the first page comes quickly."""
    many = 100_000
    with sessions.begin() as session:
        session.execute(
            Picture.__table__.insert(),
            [
                {"project_id": page.project, "name": f"belt-{n:06d}.jpg", "content_hash": f"{page.project}-{n}",
                 "suffix": ".jpg", "width": 960, "height": 540, "state": PictureState.UNLABELLED, "revision": 0,
                 "box_count": 0, "source": ""}
                for n in range(many)
            ],
        )  # fmt: skip
    page.allowed = ["404"]
    page.open("collect")
    page.until(lambda: len(page.all("card")) > 15, "the first pictures")
    assert page.find("grid").get_attribute("data-total") == str(many + 10)
    page.driver.execute_script("document.querySelector('[data-test=grid]').scrollTo(0, 1e9)")
    page.until(lambda: "belt-099999.jpg" in page.find("grid").text, "the last picture")
    assert len(page.all("card")) < 80
    page.driver.execute_script(
        "const g = document.querySelector('[data-test=grid]'); g.scrollTo(0, g.scrollHeight / 2)"
    )
    page.until(
        lambda: "belt-05" in page.find("grid").text or "belt-04" in page.find("grid").text, "the middle"
    )
    assert len(page.all("card")) < 80
    page.chord(Keys.CONTROL, "a")
    page.find("chosen-bar", f"{many + 10:,} selected")
