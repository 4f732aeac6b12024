"""Judge in the real page: what lies behind the figures, two models, Anatomy, models combined."""

import json
import re

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

pytestmark = [pytest.mark.browser, pytest.mark.slow]


def train(page, name, epochs, start="shipped"):
    """A small run from the shipped weights."""
    settings = {"side": 192, "epochs": epochs, "batch": 4}
    order = {"name": name, "start": start, "settings": settings}
    run_id = page.outcome(page.own("runs", "POST", order))["run_id"]
    page.outcome(page.fetch(f"/runs/{run_id}")["run"])
    return run_id


def measure(page, run_id, part="validation"):
    evaluation = page.own("evaluations", "POST", {"run_id": run_id, "part": part})
    page.outcome(evaluation)
    return evaluation["id"]


def counts_of(page, evaluation_id, score):
    """Hits, misses and false alarms of a measurement at a minimum score."""
    query = f"minimum_score={score}&overlap_limit=0.5"
    wall = page.fetch(f"/evaluations/{evaluation_id}/pictures?{query}")["pictures"]
    return [sum(row[kind] for row in wall) for kind in ("hits", "misses", "false_alarms")]


def boxes_of(page, evaluation_id, score):
    """How many truths and predictions a measurement has at a minimum score."""
    hits, misses, false_alarms = counts_of(page, evaluation_id, score)
    return hits + misses + hits + false_alarms


def sums_above(page):
    """Hits, misses and false alarms as they stand above the pages."""
    return [int(each) for each in re.findall(r"(\d+) (?:hits|missed|false)", page.find("sums").text)]


def sums_of_classes(page):
    """Hits, misses and false alarms of all classes together, as the table of figures shows them."""
    rows = page.driver.find_elements(By.CSS_SELECTOR, "[data-test=class-figures] tbody tr:not(.mean)")
    cells = [[cell.text for cell in row.find_elements(By.TAG_NAME, "td")[-3:]] for row in rows]
    if any("–" in row for row in cells):
        return []
    hits, false_alarms, misses = (sum(int(row[column]) for row in cells) for column in range(3))
    return [hits, misses, false_alarms]


@pytest.mark.long
def test_from_figures_to_what_lies_behind(page):
    better, worse = train(page, "better", 25), train(page, "worse", 1, None)
    first, second = measure(page, worse), measure(page, better)
    training = measure(page, better, "training")

    page.open("judge")
    page.until(lambda: len(page.all("evaluation-row")) == 3, "three measurements")
    rows = page.all("evaluation-row")
    rows[0].find_element(By.CSS_SELECTOR, ".el-checkbox").click()
    page.keys(Keys.DELETE)
    page.until(lambda: len(page.all("evaluation-row")) == 2, "one in the bin")
    page.undo()
    page.until(lambda: len(page.all("evaluation-row")) == 3, "it again")
    rows = page.all("evaluation-row")
    for row in rows[1:]:
        row.find_element(By.CSS_SELECTOR, ".el-checkbox").click()
    page.until(lambda: page.find("compare-two").is_enabled(), "two selected")
    page.click("compare-two")
    words = page.find("beside-words", "mAP at 0.50:0.95").text
    assert words.startswith("worse measures −") and "against better" in words and "chance" in words
    assert page.find("beside-figures").text.count("\n") >= 6
    page.find("beside-pictures", "right by both")
    least = page.fetch(f"/evaluations/{second}")["report"]["minimum_score"]
    shown = boxes_of(page, first, least) + boxes_of(page, second, least)
    page.until(
        lambda: len(page.driver.find_elements(By.CSS_SELECTOR, ".pair rect")) == shown, "both answers drawn"
    )

    train(page, "extra", 1)
    page.open(f"judge/beside?first={first}&second={second}")
    page.find("measure-others", "1 other model")
    page.keys("m")
    page.until(lambda: not page.all("measure-others") and not page.all("unfinished"), "it measured", 120)
    names = [each["name"] for each in page.own("evaluations")["evaluations"] if each["report"]]
    assert names.count("extra") == 1

    page.open(f"judge/{second}")
    report = page.fetch(f"/evaluations/{second}")["report"]
    page.find("class-figures", f"{report['classes']['roll']['ap50']:.3f}")
    least = report["minimum_score"]
    lower = max(0.01, round(least - 0.2, 2))
    again = round(lower + 0.2, 2)
    for score, keys in ((least, ""), (lower, "[" * 20), (again, "]" * 20)):
        page.keys(*keys)
        wanted = counts_of(page, second, score)
        page.until(
            lambda: sums_of_classes(page) == sums_above(page) == wanted,  # noqa: B023
            f"classes that add up to {wanted}",
        )
    page.keys("3")
    none = len(page.find("mistakes-none").text.split(","))
    assert len(page.all("mistake-row")) + none == 10, "every kind is told"
    page.keys("5")
    page.find("pr-curves", "croissant")
    page.click("[data-test=pr-curves] label", "One class, every IoU")
    page.find("pr-curves", "IoU 0.95")
    page.keys("7")
    page.find("calibration", "Expected error")
    page.keys("6")
    page.until(lambda: len(page.all("operating-row")) == 5, "a score for each class")
    page.click("save-scores")
    page.find("saved-scores", "roll")
    assert page.fetch(f"/runs/{better}")["run"]["minimum_scores"]["roll"] > 0
    page.undo()
    page.until(lambda: not page.fetch(f"/runs/{better}")["run"]["minimum_scores"], "the scores as before")
    page.keys("2")
    page.until(lambda: len(page.all("wall-tile")) == 2, "the pictures")
    page.choose("[data-test=wall-order]", "Lowest IoU of a hit")
    page.find(".wall", "IoU 0.")
    for score, keys in ((again, ""), (lower, "[" * 20)):
        page.keys(*keys)
        wanted = boxes_of(page, second, score)
        page.until(
            lambda: len(page.driver.find_elements(By.CSS_SELECTOR, ".tile rect")) == wanted,  # noqa: B023
            f"{wanted} boxes on the wall",
        )
    page.find("download").click()
    links = page.until(
        lambda: [e.get_attribute("href") for e in page.driver.find_elements(By.CSS_SELECTOR, "a.download")],
        "links",
    )
    assert any("figures.csv?minimum_score=" in link for link in links)

    # A label that is missing, and one of another class, lead the list; the first is accepted and taken back.
    labels = page.labels(1)
    spoilt = labels["boxes"][1:]
    spoilt[0]["class_id"] = next(
        b["class_id"] for b in labels["boxes"] if b["class_id"] != spoilt[0]["class_id"]
    )
    body = {"revision": labels["revision"], "state": "done", "boxes": spoilt}
    page.fetch(f"/pictures/{page.pictures[0]}/labels", "PUT", body)
    snapshot_id = page.outcome(page.own("snapshots", "POST", {"name": "spoilt"}))["snapshot_id"]
    made = page.own("evaluations", "POST", {"run_id": better, "part": "training", "snapshot_id": snapshot_id})
    page.outcome(made)
    page.open(f"judge/{made['id']}?page=doubts")
    page.find(".notice", "Training pictures")
    doubts = page.until(lambda: page.all("doubt"), "doubted labels")
    shown = page.find("doubts").text
    assert "may be missing from the labels" in shown and "looks like a" in shown
    count, revision = len(doubts), page.labels(1)["revision"]
    first_picture = page.fetch(f"/evaluations/{made['id']}/doubts")["doubts"][0]["picture_id"]
    before = page.fetch(f"/pictures/{first_picture}")["labels"]["boxes"]
    page.keys("k")
    page.until(lambda: len(page.all("doubt")) == count - 1, "one fewer")
    assert page.fetch(f"/pictures/{first_picture}")["labels"]["boxes"] != before
    page.undo()
    page.until(lambda: len(page.all("doubt")) == count, "it again")
    assert page.fetch(f"/pictures/{first_picture}")["labels"]["boxes"] == before
    page.keys("f")
    page.until(lambda: len(page.all("doubt")) == count - 1, "one fewer")
    assert revision and first != training


@pytest.mark.long
def test_anatomy_and_models_combined(page):
    one, two = train(page, "one", 12), train(page, "two", 8)
    page.open(f"judge/anatomy?run={one}&picture={page.pictures[0]}")
    page.stage()
    page.find("cell-panel", "The anchor in its cell")
    score = float(page.find("cell-score").text)
    assert 0 < score <= 1
    page.all("step")[1].click()
    page.find("cell-panel .here, [data-test=cell-panel] .here", "Move its middle")
    before = page.find("cell-panel").text
    page.keys(*["\ue014"])
    page.until(lambda: page.find("cell-panel").text != before, "the cell to the right")
    page.tap((480, 270))
    page.choose("[data-test=tint]", "Likeliest class")
    page.find("anatomy-pages").click()
    page.click("[data-test=anatomy-pages] label", "Boxes")
    funnel = page.find("funnel", "after suppression").text
    numbers = [int(each.replace(",", "")) for each in re.findall(r"[\d,]+", funnel)]
    assert numbers == sorted(numbers, reverse=True)
    assert numbers[0] == 3 * 24 * 16, "only the finest level has objects of its size"
    page.find("[data-test=score-slider] [role=slider]").send_keys("\ue011")
    page.until(lambda: page.find("funnel").text != funnel, "more candidates")
    page.click("way-linear")
    page.until(lambda: page.find("way-linear").is_selected(), "soft suppression")
    page.click("way-by-class")
    box = page.labels(1)["boxes"][0]["corners"]
    page.tap(((box[0] + box[2]) / 2, (box[1] + box[3]) / 2))
    page.find("funnel-panel .fate, [data-test=funnel-panel] .fate")

    page.open("judge/combine")
    page.find("fusion", "Combined", 120)
    page.find("fusion", "All together, suppressed")
    page.find("ensemble-name").find_element(By.XPATH, "ancestor-or-self::*[1]")
    page.click("save-ensemble")
    page.find("ensemble", "two")
    page.click("judge-ensemble")
    page.find("class-figures", "roll", 120)
    page.open("use")
    page.find("use-form")
    page.choose("[data-test=use-form] .el-select", "two + one, 2 models combined")
    assert one != two


@pytest.mark.long
def test_detections_of_another_program_are_mapped_and_measured(page, tmp_path):
    page.outcome(page.own("snapshots", "POST", {"name": "for predictions"}))
    rows = [
        {"image_id": number, "category_id": 900 + place, "bbox": [x1, y1, x2 - x1, y2 - y1], "score": 0.9}
        for number, picture in enumerate(sorted_by_hash(page), start=1)
        for place, (name, (x1, y1, x2, y2)) in enumerate(picture)
        for place in [NAMES.index(name)]
    ]
    path = tmp_path / "found.json"
    path.write_text(json.dumps(rows))
    page.open("judge")
    page.choose("[data-test=measure-model]", "Predictions of another program")
    page.find("missing", "Choose the file of predictions")
    page.find("detections-file").send_keys(str(path))
    page.choose("[data-test=measure-truth]", "Snapshot for predictions, 6 pictures")
    page.click("measure")
    page.find("measure-failed", "say which class each means", 120)
    form = page.find("class-map")
    used = sorted({row["category_id"] for row in rows})
    for number in used:
        page.choose(
            f"[data-test=class-map] label:nth-of-type({used.index(number) + 1}) .el-select",
            NAMES[number - 900],
        )
    form.find_element(By.CSS_SELECTOR, "button[type=submit]").click()
    assert page.find("map50", None, 120).text == "1.000"


NAMES = ["roll", "croissant", "loaf", "pretzel", "ring"]


def sorted_by_hash(page):
    """Names and corners of every labelled picture's boxes, in the order of a snapshot."""
    classes = {each["id"]: each["name"] for each in page.own("classes")["classes"]}
    details = [page.fetch(f"/pictures/{number}") for number in page.pictures[:6]]
    details.sort(key=lambda each: each["picture"]["content_hash"])
    return [
        [(classes[box["class_id"]], box["corners"]) for box in each["labels"]["boxes"]] for each in details
    ]
