"""Takes docs/screenshots/ from the demo project: one picture of each main view at 1280×800.

Usage: screenshots.py [DATA]
"""

import json
import shutil
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
from pathlib import Path

from selenium import webdriver
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import WebDriverWait

from avocet.demo.belt import HEIGHT, MovingBelt, render_still
from avocet.demo.camera import SimulatedCamera
from avocet.demo.project import CLIP_RATE, CLIP_SECONDS, FIRST_SEED
from avocet.media.pictures import encode_jpeg

PORT = 8399
ADDRESS = f"http://127.0.0.1:{PORT}"
TARGET = Path(__file__).parent.parent / "docs" / "screenshots"


def ask(path: str, body: object = None, method: str | None = None) -> dict:
    """What the server says."""
    data = None if body is None else json.dumps(body).encode()
    headers = {"Content-Type": "application/json"}
    request = urllib.request.Request(f"{ADDRESS}/api/v1{path}", data, headers, method=method)
    try:
        with urllib.request.urlopen(request, timeout=60) as reply:
            return json.load(reply)
    except urllib.error.HTTPError as error:
        raise SystemExit(f"{path}: {error.read().decode()}") from None


def wait_for_jobs() -> None:
    while any(job["state"] in ("waiting", "running") for job in ask("/projects/1/jobs")["jobs"]):
        time.sleep(0.5)


def browser() -> webdriver.Chrome:
    options = webdriver.ChromeOptions()
    for argument in ("--headless", "--no-sandbox", "--disable-gpu", "--disable-background-networking",
                     "--disable-component-update", "--disable-sync", "--hide-scrollbars", "--disable-dev-shm-usage"):  # fmt: skip
        options.add_argument(argument)
    driver = webdriver.Chrome(options=options, service=Service(shutil.which("chromedriver")))
    size = {"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False}
    driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
    return driver


class Camera:
    """Opens views and takes their pictures."""

    def __init__(self, driver: webdriver.Chrome) -> None:
        self.driver = driver

    def open(self, path: str, wanted: str) -> None:
        self.driver.get(f"{ADDRESS}/project/1/{path}")
        self.wait(wanted)

    def wait(self, wanted: str) -> None:
        WebDriverWait(self.driver, 60).until(lambda driver: driver.find_elements(By.CSS_SELECTOR, wanted))
        time.sleep(1.2)

    def take(self, name: str) -> None:
        self.driver.save_screenshot(str(TARGET / f"{name}.png"))
        print(f"docs/screenshots/{name}.png", flush=True)

    def choose_box(self, number: int) -> None:
        self.driver.find_elements(By.CSS_SELECTOR, "[data-test=box-row]")[number].click()
        canvas = self.driver.find_element(By.CSS_SELECTOR, "[data-test=stage]")
        ActionChains(self.driver).move_to_element_with_offset(canvas, 160, -150).perform()
        time.sleep(0.4)


def label_clip(camera: Camera) -> None:
    """Each good of the demo's clip that is whole on one frame drawn there, and followed from it both ways."""
    belt, frame = MovingBelt(FIRST_SEED - 1, CLIP_SECONDS * CLIP_RATE), 70
    shown = belt.frame(frame)
    classes = {each["name"]: each["id"] for each in ask("/projects/1/classes")["classes"]}
    goods = [
        (name, box)
        for name, box in zip(shown.classes, shown.boxes.tolist(), strict=True)
        if box[1] > 0 and box[3] < HEIGHT
    ]
    boxes = [{"number": number, "box": box} for number, (_, box) in enumerate(goods, start=1)]
    for back in (False, True):
        ask("/clips/1/carried", {"frame": frame, "back": back, "boxes": boxes})
    wait_for_jobs()
    ways = [
        job["outcome"]["carry"]["objects"]
        for job in ask("/projects/1/jobs")["jobs"]
        if job["kind"] == "carry"
    ]
    changes = []
    for number, (name, _) in enumerate(goods, start=1):
        found = [each for way in ways for each in way if each["number"] == number]
        sets = {
            at: {"frame": at, "corners": corners, "origin": "hand" if at == frame else "carried"}
            for each in found
            for at, corners in zip(each["frames"], each["boxes"], strict=True)
        }
        track = {
            "class_id": classes[name],
            "spans": [
                [min(each["spans"][0][0] for each in found), max(each["spans"][-1][1] for each in found)]
            ],
            "sets": [sets[at] for at in sorted(sets)],
            "unsure": sorted({at for each in found for at in each["unsure"]}),
        }
        changes.append({"number": number, "revision": 0, "track": track})
    ask("/clips/1/tracks", {"changes": changes})
    camera.open("collect/clips/1", "[data-test=clip-desk]")
    chain = ActionChains(camera.driver)
    for _ in range(7):
        chain.send_keys(":")
    chain.perform()
    camera.wait("[data-test=frame-picture]")
    ActionChains(camera.driver).send_keys(Keys.TAB, Keys.TAB).perform()
    time.sleep(2.5)


def count_over_a_line(camera: Camera, detection: int) -> None:
    """A line across the belt, and the frame of one of its crossings."""
    line = {
        "kind": "line",
        "name": "To the shelf",
        "points": [[0.06, 0.6], [0.94, 0.6]],
        "sides": ["oven", "shelf"],
    }
    ask(f"/detections/{detection}/counting", {"shapes": [line]}, "PUT")
    camera.open(f"use/{detection}", "[data-test=found-box]")
    camera.driver.find_element(By.CSS_SELECTOR, "[data-test=counted]").click()
    camera.driver.find_elements(By.CSS_SELECTOR, "[data-test=crossing]")[6].click()
    time.sleep(1.5)


def answer(camera: Camera, run: int) -> None:
    """An address with a key and some calls, and the answer to a picture."""
    address = ask("/projects/1/addresses", {"name": "cooling-belt", "run_id": run})
    key = ask(f"/addresses/{address['id']}/keys", {"name": "line 2", "per_minute": 600})["key"]
    ask(f"/addresses/{address['id']}/keys", {"name": "night shift", "per_minute": 60})
    with tempfile.TemporaryDirectory() as name:
        picture = Path(name) / "belt.jpg"
        picture.write_bytes(encode_jpeg(render_still(77).pixels))
        for _ in range(40):
            sent = urllib.request.Request(
                f"{ADDRESS}/api/v1/addresses/cooling-belt/detections", picture.read_bytes(),
                {"Authorization": f"Bearer {key}", "Content-Type": "image/jpeg"},
            )  # fmt: skip
            with urllib.request.urlopen(sent, timeout=60) as reply:
                reply.read()
        time.sleep(3)
        camera.open("use/addresses", "[data-test=address-calls] canvas")
        field = camera.driver.find_element(By.CSS_SELECTOR, "[data-test=try-key]")
        field.send_keys(key)
        camera.driver.find_element(By.CSS_SELECTOR, "[data-test=try-file]").send_keys(str(picture))
        camera.wait("[data-test=try-answer]")
        time.sleep(2)


def watch(camera: Camera, run: int, address: str) -> None:
    """A camera, live, long enough to have counted."""
    ask("/projects/1/live", {"name": "Line 2", "run_id": run, "camera": address})
    camera.open("use/live", "[data-test=found-box]")
    time.sleep(25)


def main(data: Path) -> None:
    TARGET.mkdir(parents=True, exist_ok=True)
    command = [
        sys.executable,
        "-m",
        "avocet.cli.main",
        "serve",
        "--data",
        str(data),
        "--port",
        str(PORT),
        "--demo",
    ]
    server = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    assert server.stdout is not None
    server.stdout.readline()
    # The demo project is made while the server answers already.
    while not ask("/projects")["projects"] or not ask("/projects/1/detections")["detections"]:
        time.sleep(0.5)
    driver = browser()
    try:
        camera = Camera(driver)
        camera.open("collect", "[data-test=card] img")
        camera.take("collect")
        camera.open("collect/3", "[data-test=stage][data-ready=true]")
        camera.choose_box(5)
        camera.take("label")
        camera.open("collect/figures", ".plot canvas")
        camera.take("figures")
        camera.open("collect/audit", "[data-test=finding]")
        camera.take("findings")
        camera.open("collect/audit?class=5", "[data-test=crop] img")
        wait_for_jobs()
        camera.open("collect/audit?class=5", "[data-test=crop] img")
        camera.take("audit")
        if len(ask("/projects/1/snapshots")["snapshots"]) == 1:
            ask("/projects/1/snapshots", {"name": "Rings are rolls", "class_map": {5: 1}})
            wait_for_jobs()
        camera.open("collect/snapshots", "[data-test=snapshot-detail]")
        camera.open("train", "[data-test=plan]")
        wait_for_jobs()
        driver.find_element(By.XPATH, "//div[@role='tab'][contains(.,'Augmentation')]").click()
        camera.wait("[data-test=augmented]")
        camera.take("train")
        run, second = sorted(each["id"] for each in ask("/projects/1/runs")["runs"])[:2]
        camera.open(f"train/{run}", ".chart canvas")
        camera.take("run")
        driver.find_element(By.XPATH, "//div[@role='tab'][contains(.,'Watch pictures')]").click()
        camera.wait("[data-test=watch-picture]")
        camera.take("watch")
        camera.open("train/runs", "[data-test=run-row]")
        ActionChains(driver).key_down(Keys.CONTROL).send_keys("a").key_up(Keys.CONTROL).perform()
        camera.wait("[data-test=overlay] canvas")
        camera.take("runs")
        measured = {each["run_id"]: each["id"] for each in ask("/projects/1/evaluations")["evaluations"]}
        evaluation, other = measured[run], measured[second]
        detection = ask("/projects/1/detections")["detections"][0]["id"]
        camera.open(f"judge/{evaluation}", "[data-test=class-figures]")
        camera.take("measurement")
        camera.open(f"judge/{other}?page=mistakes", "[data-test=mistake-row]")
        driver.find_element(By.CSS_SELECTOR, "[data-test=mistake-row] button:not(:disabled)").click()
        camera.wait("[data-test=box-crop] img")
        camera.take("mistakes")
        camera.open(f"judge/beside?first={other}&second={evaluation}", "[data-test=beside-words]")
        camera.take("beside")
        camera.open(f"judge/anatomy?run={run}&picture=3", "[data-test=cell-panel] ol")
        camera.take("anatomy")
        ask("/proposals", {"run_id": run})
        wait_for_jobs()
        unlabelled = ask("/projects/1/pictures?state=unlabelled&limit=1")["pictures"][0]["id"]
        camera.open(f"collect/{unlabelled}", "[data-test=stage][data-ready=true]")
        camera.wait("[data-test=proposals]")
        ActionChains(driver).send_keys(Keys.ARROW_RIGHT, Keys.ARROW_RIGHT).perform()
        camera.take("proposals")
        label_clip(camera)
        camera.take("clip")
        camera.open("use", "[data-test=use-form]")
        camera.take("use")
        count_over_a_line(camera, detection)
        camera.take("detection")
        answer(camera, run)
        camera.take("address")
        belt = SimulatedCamera()
        belt.start()
        watch(camera, run, belt.address)
        camera.take("live")
        belt.close()
    finally:
        driver.quit()
        server.terminate()
        server.wait(timeout=30)


if __name__ == "__main__":
    if len(sys.argv) > 1:
        main(Path(sys.argv[1]))
    else:
        with tempfile.TemporaryDirectory() as name:
            main(Path(name))
