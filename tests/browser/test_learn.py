"""Train, Judge and Use in the real page, with a real worker behind it."""

import os
import signal

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.servers import worker_of

pytestmark = [pytest.mark.browser, pytest.mark.slow]


def field(page, label, value):
    entry = page.find(f"input[aria-label='{label}'], [aria-label='{label}'] input")
    entry.send_keys(Keys.CONTROL, "a")
    entry.send_keys(str(value), Keys.TAB)


def start_small_run(page, epochs):
    page.open("train")
    page.find("plan", "Learns from 4 pictures, validated on 2")
    field(page, "Input side", 96)
    field(page, "Epochs", epochs)
    field(page, "Batch", 2)
    page.click("start-run")
    page.find("epoch")


@pytest.mark.long
def test_train_judge_and_use(page):
    start_small_run(page, 20)
    page.find("epoch", "20 of 20", 240)
    page.find("job-state", "Done")
    page.find("stage-train", "best mAP")
    run = page.run()
    assert page.find("best-map").text == f"{run['run']['best_map50']:.3f}"
    assert all(
        chart.size["height"] > 180 for chart in page.driver.find_elements(By.CSS_SELECTOR, ".chart canvas")
    )

    page.click("judge-run")
    figures = page.find("class-figures", None, 240)
    report = page.own("evaluations")["evaluations"][0]["report"]
    assert page.find("map50").text == f"{report['map50']:.3f}"
    assert figures.text.count("\n") >= 5
    page.keys("2")
    page.until(lambda: len(page.all("wall-tile")) == 2, "two pictures")
    sums = page.find("sums").text
    # An untrained network scores low: lowering the minimum score brings its false alarms out at once.
    slider = page.find("[data-test=score-slider] [role=slider]")
    slider.send_keys(Keys.HOME)
    page.until(lambda: page.find("sums").text != sums, "other counts")
    page.keys("4")
    cells = page.until(
        lambda: [each for each in page.all("cell") if each.is_enabled()], "numbers in the matrix"
    )
    wanted = cells[-1].text
    cells[-1].click()
    page.find("behind", wanted)
    crops = page.until(lambda: page.all("box-crop"), "crops")
    assert all(1 <= len(each.find_elements(By.TAG_NAME, "rect")) <= 2 for each in crops), (
        "what was found, and the truth"
    )
    page.keys("6")
    page.until(lambda: len(page.all("operating-row")) == 5, "a score for each class")
    page.choose("[data-test=wish]", "Least price")
    page.find("chooser", "A false alarm")
    page.click("[data-test=judge-pages] label", "Pictures")
    page.until(lambda: len(page.all("wall-tile")) == 2, "the pictures again")
    page.all("wall-tile")[0].click()
    page.stage()
    shown = page.until(lambda: page.find("marks").text, "marks")
    assert "false alarm" in shown and "minimum" not in shown.lower()
    rows = len(page.driver.find_elements(By.CSS_SELECTOR, "[data-test=marks] button"))
    for _ in range(30):
        page.keys("]")
    page.until(
        lambda: len(page.driver.find_elements(By.CSS_SELECTOR, "[data-test=marks] button")) != rows,
        "fewer marks",
    )
    page.keys("g")
    page.chord(Keys.SHIFT, "g")
    page.keys(".")
    page.find(".compare, [data-test=compare]")

    page.open("use")
    page.find("use-form", "belt.mp4")
    slider = page.find("[data-test=score-slider] [role=slider]")
    slider.send_keys(Keys.HOME)
    page.click("start-detection")
    page.find("box-count", "box", 240)
    assert float(page.find("speed").text) > 0
    assert page.own("detections")["detections"][0]["summary"]["pictures"] == 12
    page.until(
        lambda: page.driver.execute_script("return document.querySelector('video')?.readyState >= 2"), "it"
    )
    page.keys(" ")
    moving = "const v = document.querySelector('video'); return v && v.readyState >= 2 && v.currentTime > 0.1 && v.videoWidth"
    assert page.until(lambda: page.driver.execute_script(moving), "the clip playing") == 960
    page.click("results")
    assert page.find("csv").get_attribute("href").endswith("detections.csv?download")
    # Objects of the clip, each once; a click, or the key, goes to its first sight.
    found = page.own("detections")["detections"][0]
    page.find("clip-objects", "object")
    objects = page.fetch(f"/detections/{found['id']}/files/objects.json")["objects"]
    assert len(objects) == sum(found["summary"]["objects"].values()) == len(page.all("clip-object"))
    if objects:
        last = objects[-1]
        page.all("clip-object")[-1].click()
        page.find("frame", f"Frame {last['first_frame']}")
        at = "const v = document.querySelector('video'); return v.paused && !v.seeking && v.currentTime"
        # Into the middle of that frame, of twelve a second.
        page.until(
            lambda: 0 <= page.driver.execute_script(at) - last["first_seconds"] < 1 / 12, "its first sight"
        )
    assert page.find("objects-csv").get_attribute("href").endswith("objects.csv?download")
    page.find("stage-use", "last on belt.mp4")


@pytest.mark.long
def test_stop_resume_and_a_killed_worker(page, server):
    start_small_run(page, 400)
    page.until(lambda: int(page.find("epoch").text.split()[0]) >= 2, "two epochs", 240)
    page.find("job", "left")
    assert page.find("time-left").text not in ("", "–")
    page.click("stop-run")
    page.find("job-state", "Stopped", 240)
    stopped_at = page.run()["epochs"][-1]["epoch"]
    page.click("resume-run")
    page.until(lambda: page.run()["epochs"][-1]["epoch"] > stopped_at, "further epochs", 240)
    served_by = int(server[1].lock.read_text())
    os.kill(worker_of(served_by, "compute"), signal.SIGKILL)
    page.find("job-state", "Interrupted", 240)
    page.find(".notice", "The worker was ended")
    page.keys("r")
    page.until(lambda: page.run()["run"]["job"]["state"] == "running", "the run going on", 240)
    page.click("stop-run")
    page.find("job-state", "Stopped", 240)
    epochs = [each["epoch"] for each in page.run()["epochs"]]
    assert epochs == list(range(1, len(epochs) + 1))


def test_obstacles_are_said_where_they_can_be_mended(page):
    page.own("parts", "PUT", {"ids": page.pictures, "part": None})
    page.open("train")
    page.find("obstacles", "No labelled picture is in the training or the validation part")
    assert not page.find("start-run").is_enabled()
    page.click("[data-test=obstacles] button")
    page.click("split-now")
    page.until(lambda: page.find("start-run").is_enabled(), "a way to start")


@pytest.mark.parametrize(
    "path",
    [
        "collect",
        "collect/{picture}",
        "train",
        "train/runs",
        "train/study",
        "judge",
        "judge/beside",
        "judge/anatomy",
        "judge/combine",
        "use",
    ],
)
def test_views_fit_the_screen(page, path):
    page.open(path.format(picture=page.pictures[0]))
    page.find("stage-collect", "labelled")
    page.until(lambda: page.driver.find_elements(By.CSS_SELECTOR, "h1, [data-test=stage]"), "the view")
    size = page.driver.execute_script(
        "const d = document.documentElement; return [d.scrollWidth, d.scrollHeight]"
    )
    assert size[0] <= 1280 and size[1] <= 800
