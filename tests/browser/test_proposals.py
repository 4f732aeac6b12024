"""Proposals in Collect: a model proposes, a person keeps, refuses and corrects, and the labour is counted."""

import pytest
from selenium.webdriver.common.keys import Keys

from tests.ready import add_trained_run


@pytest.mark.long
@pytest.mark.browser
def test_unlabelled_pictures_are_labelled_from_proposals(page, server, sessions):
    with sessions.begin() as session:
        add_trained_run(session, server[1], page.project)
    page.open("collect")
    page.find("propose-boxes")
    page.chord(Keys.SHIFT, "p")
    page.find("propose", "For 4 unlabelled pictures")
    page.click("start-proposing")
    page.find(".el-message", "proposed on 4 pictures", 60)

    page.until(
        lambda: sum("proposed" in each.text for each in page.all("card")) == 4, "what is proposed on each"
    )

    page.open_picture(7)
    page.find("proposals", "proposals")
    number = page.pictures[6]
    proposed = page.fetch(f"/pictures/{number}/proposals")["proposals"]
    assert len(proposed) >= 4
    left = lambda: page.find("proposals", "proposal").text.split()[0]  # noqa: E731
    page.until(lambda: left() == str(len(proposed)), "all of them")
    page.keys(Keys.ARROW_RIGHT)
    page.until(lambda: left() == str(len(proposed) - 1), "one kept")
    page.until(lambda: len(page.labels(7)["boxes"]) == 1, "its box saved")
    kept = page.labels(7)["boxes"][0]["corners"]
    assert kept in [each["corners"] for each in proposed]
    page.chord(Keys.CONTROL, "z")
    page.until(lambda: left() == str(len(proposed)), "it is proposed again")
    page.keys(Keys.ARROW_DOWN)
    page.keys(Keys.ARROW_LEFT)
    page.until(lambda: left() == str(len(proposed) - 1), "one refused")
    page.find(".el-message", "1 proposal refused")
    page.chord(Keys.SHIFT, Keys.ARROW_RIGHT)
    page.until(lambda: len(page.labels(7)["boxes"]) == len(proposed) - 1, "all others kept")
    page.find("proposals", "No proposal left")
    # With a box selected the arrows move it, as everywhere.
    page.keys(Keys.TAB)
    before = page.labels(7)["boxes"]
    page.chord(Keys.SHIFT, Keys.ARROW_DOWN)
    page.until(lambda: page.labels(7)["boxes"] != before, "the first box moved")
    page.keys(Keys.ENTER)
    page.until(lambda: page.labels(7)["state"] == "done", "done")
    page.find("place", "8 of")
    page.find("proposals", "proposals")
    page.chord(Keys.SHIFT, Keys.ARROW_RIGHT)
    page.find("proposals", "No proposal left")
    page.keys(Keys.ENTER)
    page.until(lambda: page.labels(8)["state"] == "done", "done")
    # The least sure of the two that are left comes next.
    left = {
        number: min(each["score"] for each in page.fetch(f"/pictures/{number}/proposals")["proposals"])
        for number in page.pictures[8:]
    }
    page.find("place", "9 of")
    page.open_picture(1)
    page.find("place", "1 of")
    page.chord(Keys.SHIFT, "u")
    wanted = page.pictures.index(min(left, key=left.get)) + 1
    page.find("place", f"{wanted} of")
    labour = page.own("proposals")["labour"]
    everything = len(page.labels(7)["boxes"]) + len(page.labels(8)["boxes"])
    assert labour == {
        "pictures": 2, "kept": everything - 1, "corrected": 1, "by_hand": 0, "refused": 1, "time": None, "timed": 0,
    }  # fmt: skip
    page.open("collect")
    page.click("propose-boxes")
    page.find("labour", "were kept as proposed")
    page.find("time-saved", "0 so far")
    # What was worked on in the page counts beside pictures that were labelled by hand.
    for place in range(1, 7):
        labels = page.labels(place)
        worked = {**labels, "worked": 20.0 * len(labels["boxes"])}
        page.fetch(f"/pictures/{page.pictures[place - 1]}/labels", "PUT", worked)
    time = page.own("proposals")["labour"]["time"]
    assert time["by_hand"] == pytest.approx(20) and 0 < time["taken"] < 120, "as long as it took here"
    assert time["saved"] == pytest.approx(20 * everything - time["taken"])
    page.open("collect")
    page.click("propose-boxes")
    page.find("time-saved", "a box takes 20.0 s without proposals, measured on 6 pictures")
