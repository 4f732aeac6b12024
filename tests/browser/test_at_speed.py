"""Labelling as fast as the page allows, also over a slow wire: every picture that was called done is done."""

import time

import numpy as np
import pytest
from selenium.webdriver.common.keys import Keys

from avocet.media.pictures import encode_jpeg
from avocet.work.pictures.adding import add_picture

pytestmark = [pytest.mark.browser, pytest.mark.slow, pytest.mark.long]
PICTURES = 30


@pytest.fixture
def many(server, sessions, project, tmp_path):
    """Small pictures that nobody has labelled, each unlike the others; their numbers."""
    random, ids = np.random.default_rng(3), []
    for number in range(PICTURES):
        path = tmp_path / f"quick-{number:02d}.jpg"
        path.write_bytes(encode_jpeg(random.integers(0, 255, (120, 160, 3), dtype=np.uint8)))
        with sessions.begin() as session:
            ids.append(add_picture(session, server[1], project[0], path, path.name).picture.id)
    return ids


@pytest.mark.parametrize("delay", [0, 500])
def test_every_picture_that_was_called_done_is_done(page, many, delay):
    """Enter is pressed while a save of the first box is under way, before it, and after it."""
    page.open(f"collect/{many[0]}?name=quick")
    page.stage()
    page.slowed(delay)
    try:
        for number in range(PICTURES):
            page.keys("1", "b")
            # A save begins 350 ms after the last change: some presses meet it under way, some come before it.
            time.sleep((0.0, 0.3, 0.36, 0.4, 0.5)[number % 5])
            page.keys("2", "b")
            time.sleep((0.36, 0.0, 0.38)[number % 3])
            page.keys(Keys.ENTER)
        page.until(
            lambda: all(page.fetch(f"/pictures/{each}")["labels"]["state"] == "done" for each in many),
            "all of them done",
            60,
        )
    finally:
        page.slowed(0)
    for each in many:
        boxes = page.fetch(f"/pictures/{each}")["labels"]["boxes"]
        # A digit after B is for the next box: each has the class that was chosen before it was put.
        assert [box["class_id"] for box in boxes] == sorted({box["class_id"] for box in boxes}), each
        assert len(boxes) == 2


def test_a_picture_gone_back_to_at_once_has_what_was_made_of_it(page, many):
    page.open(f"collect/{many[0]}?name=quick")
    page.stage()
    for _ in range(6):
        page.keys("b", ".", ",")
    page.keys(Keys.ENTER)
    page.until(lambda: len(page.fetch(f"/pictures/{many[0]}")["labels"]["boxes"]) == 6, "six boxes", 20)
    page.until(lambda: page.fetch(f"/pictures/{many[0]}")["labels"]["state"] == "done", "it done", 20)
    assert not page.all("conflict")
    page.open("collect")
    assert not page.all("left-in-progress")


def test_pictures_left_in_progress_are_counted_and_a_click_away(page, many):
    page.open(f"collect/{many[0]}?name=quick")
    page.stage()
    page.keys("b", ".", "b", Keys.ENTER)
    page.until(lambda: page.fetch(f"/pictures/{many[1]}")["labels"]["state"] == "done", "the second done", 20)
    page.open("collect")
    page.click("left-in-progress")
    page.find("shown", "1 picture")
    assert "state=in_progress" in page.driver.current_url
