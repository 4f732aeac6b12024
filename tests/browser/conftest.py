"""The real page in headless Chromium, on a real server with its workers."""

import re
import shutil
import socket
import subprocess
import sys
import time
import urllib.request

import pytest
from selenium import webdriver
from selenium.common.exceptions import NoSuchElementException, StaleElementReferenceException
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from avocet.demo.belt import render_clip, render_still
from avocet.demo.goods import NAMES
from avocet.media.clips import ClipWriter
from avocet.media.pictures import encode_jpeg
from avocet.store.database import open_database
from avocet.store.folder import DataFolder
from avocet.store.tables import Part, PictureState
from avocet.work.classes import ensure_classes
from avocet.work.labels import NewBox, save_labels
from avocet.work.media import add_clip, add_picture
from avocet.work.projects import create_project

WIDTH, HEIGHT = 1280, 800


@pytest.fixture(scope="session")
def belt(tmp_path_factory):
    """A data folder with six labelled stills, four unlabelled ones and a clip of twelve frames."""
    place = tmp_path_factory.mktemp("belt")
    folder = DataFolder(place / "data")
    sessions = open_database(folder.database)
    with sessions.begin() as session:
        project = create_project(session, "Belt")
        ids = {each.name: each.id for each in ensure_classes(session, project.id, list(NAMES))}
        for number in range(10):
            frame = render_still(number)
            path = place / f"still-{number}.jpg"
            path.write_bytes(encode_jpeg(frame.pixels))
            picture = add_picture(session, folder, project.id, path, path.name).picture
            if number < 6:
                picture.part = Part.TRAINING if number < 4 else Part.VALIDATION
                pairs = zip(frame.classes, frame.boxes.tolist(), strict=True)
                boxes = [NewBox(ids[name], tuple(box)) for name, box in pairs]
                save_labels(session, picture, 0, boxes, PictureState.DONE)
        clip = place / "belt.mp4"
        with ClipWriter(clip, 960, 540, 12) as writer:
            for frame in render_clip(50, 12):
                writer.write(frame.pixels)
        add_clip(session, folder, project.id, clip, clip.name)
    return place


@pytest.fixture
def server(belt, tmp_path):
    """A server of its own for each test, on a copy of the data; its address."""
    shutil.copytree(belt / "data", tmp_path / "data")
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    command = [
        sys.executable,
        "-m",
        "avocet.cli.main",
        "serve",
        "--data",
        str(tmp_path / "data"),
        "--port",
        str(port),
    ]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
    line = process.stdout.readline()
    assert f"http://127.0.0.1:{port}" in line, line
    try:
        yield f"http://127.0.0.1:{port}"
    finally:
        process.terminate()
        process.wait(timeout=20)


@pytest.fixture(scope="session")
def chromium():
    options = webdriver.ChromeOptions()
    for argument in (
        "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
        "--disable-background-networking", "--disable-component-update", "--disable-sync",
        "--disable-dev-shm-usage", "--force-device-scale-factor=1", f"--window-size={WIDTH},{HEIGHT}",
    ):  # fmt: skip
        options.add_argument(argument)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    driver = webdriver.Chrome(options=options, service=Service(shutil.which("chromedriver")))
    size = {"width": WIDTH, "height": HEIGHT, "deviceScaleFactor": 1, "mobile": False}
    driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
    yield driver
    driver.quit()


class Page:
    """The page as a person has it: found by what is marked for tests, used with mouse and keys."""

    def __init__(self, driver, address):
        self.driver, self.address = driver, address
        self.allowed: list[str] = []

    def open(self, path):
        self.driver.get(self.address + path)

    def find(self, mark, text=None, seconds=15):
        """The element with this test mark (or CSS selector) once it is shown and has the text."""
        selector = mark if re.search(r"[.#\[ >]", mark) else f"[data-test={mark}]"

        def look():
            for element in self.driver.find_elements(By.CSS_SELECTOR, selector):
                if (element.is_displayed() or element.tag_name == "input") and (
                    text is None or text in element.text
                ):
                    return element
            return None

        return self.until(look, f"{mark} with {text!r}", seconds)

    def all(self, mark):
        return self.driver.find_elements(By.CSS_SELECTOR, f"[data-test={mark}]")

    def until(self, look, what, seconds=15):
        ends = time.monotonic() + seconds
        while True:
            try:
                found = look()
            except (NoSuchElementException, StaleElementReferenceException):
                found = None
            if found:
                return found
            if time.monotonic() > ends:
                body = self.driver.find_element(By.TAG_NAME, "body").text
                raise AssertionError(f"did not see {what}; the page says: {body[:600]}")
            time.sleep(0.05)

    def click(self, mark, text=None):
        self.find(mark, text).click()

    def keys(self, *keys):
        for key in keys:
            ActionChains(self.driver).send_keys(key).perform()

    def chord(self, *keys):
        chain = ActionChains(self.driver)
        for key in keys[:-1]:
            chain.key_down(key)
        chain.send_keys(keys[-1])
        for key in reversed(keys[:-1]):
            chain.key_up(key)
        chain.perform()

    def stage(self):
        """The stage once its picture is there."""
        return self.until(
            lambda: self.driver.find_element(By.CSS_SELECTOR, "[data-test=stage][data-ready=true]"),
            "a picture",
        )

    def drag(self, start, stop):
        """Drag on the stage from one picture point to another."""
        first, last = self._on_screen(start), self._on_screen(stop)
        chain = ActionChains(self.driver, duration=20)
        chain.move_to_element_with_offset(self.stage(), *first).click_and_hold()
        middle = [(a + b) // 2 for a, b in zip(first, last, strict=True)]
        chain.move_to_element_with_offset(self.stage(), *middle)
        chain.move_to_element_with_offset(self.stage(), *last).release().perform()

    def tap(self, point):
        ActionChains(self.driver, duration=20).move_to_element_with_offset(
            self.stage(), *self._on_screen(point)
        ).click().perform()

    def _on_screen(self, point):
        """Offset from the stage's centre, as the driver wants it."""
        stage = self.stage()
        scale, left, top = (float(stage.get_attribute(f"data-{name}")) for name in ("scale", "left", "top"))
        x, y = (
            left + point[0] * scale - stage.size["width"] / 2,
            top + point[1] * scale - stage.size["height"] / 2,
        )
        return round(x), round(y)

    def boxes(self):
        """Corners of the listed boxes."""
        return [tuple(map(float, row.get_attribute("data-corners").split())) for row in self.all("box-row")]

    def saved(self):
        self.find("save-state", "Saved")

    def fetch(self, path, method="GET", body=None):
        """What the server says, asked from outside the page."""
        import json

        data = None if body is None else json.dumps(body).encode()
        request = urllib.request.Request(
            f"{self.address}/api/v1{path}", data, {"Content-Type": "application/json"}, method=method
        )
        with urllib.request.urlopen(request, timeout=30) as reply:
            return json.load(reply)


@pytest.fixture
def page(chromium, server):
    """A fresh page. At the end nothing may have gone wrong in its console."""
    shown = Page(chromium, server)
    chromium.get_log("browser")
    yield shown
    chromium.get("about:blank")
    wrong = [entry["message"] for entry in chromium.get_log("browser") if entry["level"] == "SEVERE"]
    unexpected = [message for message in wrong if not any(part in message for part in shown.allowed)]
    assert not unexpected


__all__ = ["Keys", "Page"]
