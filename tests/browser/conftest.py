"""The real page in headless Chromium, on a real server with its workers."""

import json
import re
import shutil
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

from avocet.demo.belt import MovingBelt, render_still
from avocet.demo.goods import NAMES
from avocet.media.clip_writer import ClipWriter
from avocet.media.pictures import encode_jpeg
from avocet.store.database import open_database
from avocet.store.folder import DataFolder
from avocet.store.tables import Part, PictureState
from avocet.work.clips.clips import add_clip
from avocet.work.jobs import list_jobs, request_stop
from avocet.work.labels.boxes import NewBox, save_labels
from avocet.work.labels.classes import ensure_classes
from avocet.work.pictures.adding import add_picture
from avocet.work.project.projects import create_project
from tests.listed import pictures_of

WIDTH, HEIGHT = 1280, 800


@pytest.fixture(scope="session")
def stills():
    """Ten frames of the belt."""
    return [render_still(number) for number in range(10)]


@pytest.fixture(scope="session")
def belt(tmp_path_factory, stills):
    """The stills and a clip of twelve frames as files."""
    place = tmp_path_factory.mktemp("belt")
    for number, frame in enumerate(stills):
        (place / f"still-{number}.jpg").write_bytes(encode_jpeg(frame.pixels))
    with ClipWriter(place / "belt.mp4", 960, 540, 12) as writer:
        moving = MovingBelt(50, 12)
        for number in range(12):
            frame = moving.frame(number)
            writer.write(frame.pixels)
    return place


@pytest.fixture(scope="session")
def shelf(tmp_path_factory):
    """A folder that the server may read: two pictures that no project has."""
    place = tmp_path_factory.mktemp("shelf")
    for number in (0, 1):
        (place / f"shelf-{number}.jpg").write_bytes(encode_jpeg(render_still(90 + number).pixels))
    return place


@pytest.fixture(scope="session")
def server(tmp_path_factory, shelf):
    """One server with its workers for all tests: its address and its data folder."""
    data = tmp_path_factory.mktemp("served") / "data"
    command = [sys.executable, "-m", "avocet.cli.main", "serve", "--data", str(data), "--port", "0"]
    command += ["--folder", str(shelf)]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
    line = process.stdout.readline()
    assert "http://127.0.0.1:" in line, line
    try:
        yield next(word for word in line.split() if word.startswith("http://")), DataFolder(data)
    finally:
        process.terminate()
        process.wait(timeout=20)


@pytest.fixture(scope="session")
def sessions(server):
    return open_database(server[1].database)


@pytest.fixture
def project(belt, stills, server, sessions, request):
    """A project of its own for each test: six labelled stills, four unlabelled ones and a clip."""
    folder = server[1]
    with sessions.begin() as session:
        made = create_project(session, f"Belt for {request.node.name}"[:100])
        ids = {each.name: each.id for each in ensure_classes(session, made.id, list(NAMES))}
        for number, frame in enumerate(stills):
            name = f"still-{number}.jpg"
            picture = add_picture(session, folder, made.id, belt / name, name).picture
            if number < 6:
                picture.part = Part.TRAINING if number < 4 else Part.VALIDATION
                pairs = zip(frame.classes, frame.boxes.tolist(), strict=True)
                boxes = [NewBox(ids[name], tuple(box)) for name, box in pairs]
                save_labels(session, picture, 0, boxes, PictureState.DONE)
        add_clip(session, folder, made.id, belt / "belt.mp4", "belt.mp4")
        session.flush()
        pictures = [picture.id for picture in pictures_of(session, made.id)]
    yield made.id, pictures
    with sessions.begin() as session:
        for job in list_jobs(session, made.id, only_open=True):
            request_stop(session, job.id)


@pytest.fixture(scope="session")
def chromium():
    options = webdriver.ChromeOptions()
    for argument in (
        "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
        "--disable-background-networking", "--disable-component-update", "--disable-sync",
        # A camera of this computer, simulated, and given to whoever asks.
        "--use-fake-device-for-media-stream", "--use-fake-ui-for-media-stream",
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

    def __init__(self, driver, address, project, pictures):
        self.driver, self.address = driver, address
        self.project, self.pictures = project, pictures
        self.allowed: list[str] = []

    def open(self, path=""):
        """Open a view of the project, such as ``collect``."""
        self.driver.get(f"{self.address}/project/{self.project}/{path}")

    def open_picture(self, number):
        """Open picture ``number``, counted from 1, to be drawn on."""
        self.open(f"collect/{self.pictures[number - 1]}")

    def labels(self, number):
        """What the server holds for picture ``number``."""
        return self.fetch(f"/pictures/{self.pictures[number - 1]}")["labels"]

    def own(self, path, method="GET", body=None):
        """Ask below the project's own address."""
        return self.fetch(f"/projects/{self.project}/{path}", method, body)

    def outcome(self, started, seconds=300):
        """What a started job came to, once it is done."""
        number = started["job"]["id"]
        self.until(
            lambda: self.fetch(f"/jobs/{number}")["state"] in ("done", "failed"), "the job's end", seconds
        )
        job = self.fetch(f"/jobs/{number}")
        assert job["state"] == "done", job["message"]
        return job["outcome"][job["kind"]]

    def run(self):
        """The project's latest run with its epochs."""
        return self.fetch(f"/runs/{self.own('runs')['runs'][0]['id']}")

    def shown(self, mark):
        """Elements with this test mark that can be seen."""
        return [each for each in self.all(mark) if each.is_displayed()]

    def find(self, mark, text=None, seconds=45):
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

    def until(self, look, what, seconds=45):
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

    def undo(self, said="Undo"):
        """Press the button of the newest message that says so; earlier ones may still be there, its own yet to come.

        Messages slide in, and up when one above them goes: a click on a moving one lands beside its button.
        """

        def at_rest():
            messages = self.driver.find_elements(By.CSS_SELECTOR, ".el-message")
            meant = [each for each in messages if said in each.text]
            if not meant:
                return None
            button = meant[-1].find_element(By.CSS_SELECTOR, ".undo-button")
            before = button.rect
            time.sleep(0.1)
            return button if button.rect == before else None

        self.find(".el-message", said)
        self.until(at_rest, f"a message that says {said!r} and rests").click()
        # A message stays as long as the pointer rests on it, also one that moves up under it.
        ActionChains(self.driver).move_to_element(self.find("stage-collect")).perform()

    def gone(self, selector):
        """Wait until nothing matches a CSS selector any more."""
        self.until(
            lambda: not any(e.is_displayed() for e in self.driver.find_elements(By.CSS_SELECTOR, selector)),
            f"no {selector}",
        )

    def choose(self, selector, option):
        """Choose an option of a drop-down list."""
        self.find(selector).click()

        def look():
            shown = self.driver.find_elements(By.CSS_SELECTOR, ".el-select-dropdown__item")
            return next((each for each in shown if each.is_displayed() and each.text == option), None)

        self.until(look, f"the option {option}").click()
        self.gone(".el-select-dropdown")

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

    def connected(self, on):
        """Take the connection away, or give it back; the page may complain of it."""
        self.allowed = ["ERR_INTERNET_DISCONNECTED", "ERR_"]
        conditions = {"offline": not on, "latency": 0, "downloadThroughput": -1, "uploadThroughput": -1}
        self.driver.execute_cdp_cmd("Network.enable", {})
        self.driver.execute_cdp_cmd("Network.emulateNetworkConditions", conditions)

    def slowed(self, milliseconds):
        """Let every answer of the server come later by so much."""
        conditions = {
            "offline": False,
            "latency": milliseconds,
            "downloadThroughput": -1,
            "uploadThroughput": -1,
        }
        self.driver.execute_cdp_cmd("Network.enable", {})
        self.driver.execute_cdp_cmd("Network.emulateNetworkConditions", conditions)

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
        data = None if body is None else json.dumps(body).encode()
        request = urllib.request.Request(
            f"{self.address}/api/v1{path}", data, {"Content-Type": "application/json"}, method=method
        )
        with urllib.request.urlopen(request, timeout=30) as reply:
            return json.load(reply)


@pytest.fixture
def page(chromium, server, project):
    """A fresh page. At the end nothing may have gone wrong in its console."""
    shown = Page(chromium, server[0], *project)
    chromium.get_log("browser")
    yield shown
    online = {"offline": False, "latency": 0, "downloadThroughput": -1, "uploadThroughput": -1}
    chromium.execute_cdp_cmd("Network.enable", {})
    chromium.execute_cdp_cmd("Network.emulateNetworkConditions", online)
    # What the browser remembers belongs to this test alone.
    chromium.execute_script("try { localStorage.clear(); sessionStorage.clear(); } catch {}")
    chromium.get("about:blank")
    wrong = [entry["message"] for entry in chromium.get_log("browser") if entry["level"] == "SEVERE"]
    unexpected = [message for message in wrong if not any(part in message for part in shown.allowed)]
    assert not unexpected


__all__ = ["Keys", "Page"]
