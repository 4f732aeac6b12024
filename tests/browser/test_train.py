"""Before, during and after a run in the real page: looks ahead, watch pictures, comparing, studies."""

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.browser.test_learn import field, start_small_run

pytestmark = [pytest.mark.browser, pytest.mark.slow]


def tab(page, name):
    page.until(
        lambda: page.driver.find_elements(By.XPATH, f"//div[@role='tab'][contains(.,'{name}')]"),
        f"tab {name}",
    )[0].click()


@pytest.mark.long
def test_looks_ahead_of_a_run(page):
    page.open("train")
    page.find("plan", "Learns from 4 pictures")
    field(page, "Input side", 96)
    page.until(lambda: "ms" in page.find("milliseconds").text, "measured sizes", 120)
    assert page.find("side-advice").text

    tab(page, "Anchors")
    page.find("anchor-fit", "clustered from", 60)
    before = page.find("anchor-fit").text
    assert "not used, no object is large enough" in page.find("anchors-32").text.lower()
    field(page, "Width of anchor 1", 300)
    page.find("anchor-fit", "set by hand")
    assert page.find("anchor-fit").text != before
    page.click("anchor-add-32")
    page.until(
        lambda: "96" in page.find("anchors-32").find_element(By.TAG_NAME, "input").get_attribute("value"),
        "one",
    )
    page.click("anchors-back")
    page.find("anchor-fit", "clustered from")
    assert page.find("anchor-fit").text == before

    tab(page, "Augmentation")
    page.until(lambda: len(page.all("augmented")) == 12, "twelve pictures", 60)
    first = page.driver.find_element(By.CSS_SELECTOR, "[data-test=augmented] image").get_attribute("href")
    page.keys("w")
    page.until(
        lambda: (
            page.driver.find_element(By.CSS_SELECTOR, "[data-test=augmented] image").get_attribute("href")
            != first
        ),
        "another drawing",
        60,
    )
    slider = page.find("[aria-label=Turn] [role=slider], [role=slider][aria-label=Turn]")
    slider.send_keys(Keys.END)
    page.find("augment-panel", "± 45°")

    tab(page, "Time and memory")
    page.find("estimate")
    page.chord(Keys.SHIFT, "e")
    page.find("estimated", "GB", 120)

    tab(page, "Watch pictures")
    page.until(lambda: len(page.all("watch-tile")) == 2, "validation pictures")
    page.all("watch-tile")[1].click()
    page.find("watch-choice", "1 picture selected")
    field(page, "Epochs", 1)
    field(page, "Batch", 2)
    page.click("start-run")
    page.find("job-state", "Done", 240)
    run = page.run()
    assert run["run"]["settings"]["turn"] == 45
    watched = page.fetch(f"/runs/{run['run']['id']}/watch")["pictures"]
    assert [each["picture_id"] for each in watched] == [page.pictures[5]]


@pytest.mark.long
def test_two_sides_are_tried(page):
    page.open("train")
    page.find("plan", "Learns from 4 pictures")
    field(page, "Epochs", 3)
    field(page, "Batch", 2)
    page.until(lambda: page.all("try-sides"), "two sides to try")
    said = page.find("try-sides").text
    page.driver.find_element(By.TAG_NAME, "body").click()
    page.keys("c")
    page.find("overlay", "2 runs over one another")
    runs = page.fetch(f"/projects/{page.project}/runs")["runs"]
    sides = sorted(each["settings"]["side"] for each in runs)
    assert said == f"Compare sides {sides[0]} and {sides[1]}"
    assert {each["name"] for each in runs} == {f"Side {side}" for side in sides}
    assert {each["settings"]["epochs"] for each in runs} == {3}
    page.until(lambda: page.find("runs").text.count("Done") == 2, "both done", 240)


@pytest.mark.long
def test_watch_try_extend_and_compare(page):
    start_small_run(page, 3)
    page.find("transfer", "taken over: backbone, neck")
    page.find("job-state", "Done", 240)
    page.keys("2")
    page.until(lambda: len(page.all("watch-picture")) == 2, "watch pictures")
    page.find("watch-epoch", "3")
    page.keys(",", ",")
    page.find("watch-epoch", "1")
    page.keys(*"[" * 30)
    few = len(page.all("prediction"))
    page.keys(".", ".")
    page.until(lambda: len(page.all("prediction")) != few, "other predictions in another epoch")

    page.keys("3")
    page.find("try-panel")
    page.until(lambda: page.all("try-picture"), "pictures to try")[0].click()
    page.find("tried", "Epoch 3 finds", 60)
    page.keys("4")
    page.find("log", "Epoch 3: loss")

    page.chord(Keys.SHIFT, "r")
    field(page, "More epochs", 2)
    page.click("extend-now")
    page.find("epoch", "5 of 5", 240)
    page.find("job-state", "Done", 60)
    page.keys("5")
    page.find("environment", "Threads")
    note = page.find("[data-test=run-note] textarea, textarea[data-test=run-note]")
    note.send_keys("before the night shift", Keys.TAB)
    page.until(lambda: page.run()["run"]["note"] == "before the night shift", "the note")

    page.click("copy-run")
    page.find("starting", "5 of 5 classes are known")
    field(page, "Batch", 4)
    field(page, "Epochs", 1)
    field(page, "Runs", 2)
    page.click("start-run")
    page.until(lambda: len(page.all("run-row")) == 3, "the first run and two more", 60)
    page.until(lambda: page.find("runs").text.count("Done") == 3, "all done", 240)
    seeds = [each["settings"]["seed"] for each in page.fetch(f"/projects/{page.project}/runs")["runs"]]
    assert sorted(seeds) == [0, 0, 1], "each of several with the next seed"
    head = page.find("runs").text.split("\n")[0]
    assert "Batch" in head and "Started from" in head and "Optimiser" not in head
    page.chord(Keys.CONTROL, "a")
    page.find("overlay", "3 runs over one another")
    page.choose("[data-test=group-by]", "Batch")
    page.find("groups", "By batch")
    page.click("bin-runs")
    page.gone("[data-test=run-row]")
    page.undo()
    page.until(lambda: len(page.all("run-row")) == 3, "all restored")


@pytest.mark.long
def test_how_many_pictures(page):
    page.open("train")
    page.find("plan", "Learns from")
    field(page, "Input side", 96)
    field(page, "Batch", 2)
    page.click("page-study")
    page.find("study-form", "4 training pictures")
    field(page, "Steps", 20)
    page.click("start-study")
    page.until(lambda: len(page.all("study-row")) == 4, "four trainings", 240)
    page.find("verdict", "Twice as many pictures (8)")
