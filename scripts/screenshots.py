"""Takes docs/screenshots/ from the demo project: one picture of each main view at 1280×800.

Usage: screenshots.py [DATA]
"""

import json
import shutil
import subprocess
import sys
import tempfile
import time
import urllib.request
from pathlib import Path

from selenium import webdriver
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import WebDriverWait

PORT = 8399
ADDRESS = f"http://127.0.0.1:{PORT}"
TARGET = Path(__file__).parent.parent / "docs" / "screenshots"


def ask(path: str, body: object = None, method: str | None = None) -> dict:
    """What the server says."""
    data = None if body is None else json.dumps(body).encode()
    headers = {"Content-Type": "application/json"}
    request = urllib.request.Request(f"{ADDRESS}/api/v1{path}", data, headers, method=method)
    with urllib.request.urlopen(request, timeout=60) as reply:
        return json.load(reply)


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
        camera.take("snapshots")
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
        camera.open("judge", "[data-test=evaluation-row]")
        camera.take("judge")
        camera.open(f"judge/{evaluation}", "[data-test=class-figures]")
        camera.take("measurement")
        camera.open(f"judge/{other}?page=mistakes", "[data-test=mistake-row]")
        driver.find_element(By.CSS_SELECTOR, "[data-test=mistake-row] button:not(:disabled)").click()
        camera.wait("[data-test=box-crop] img")
        camera.take("mistakes")
        camera.open(f"judge/{evaluation}?page=doubts", "[data-test=doubt]")
        camera.take("doubts")
        camera.open(f"judge/beside?first={other}&second={evaluation}", "[data-test=beside-words]")
        camera.take("beside")
        camera.open(f"judge/anatomy?run={run}&picture=3", "[data-test=cell-panel] ol")
        camera.take("anatomy")
        camera.open(f"judge/{evaluation}?page=wall", "[data-test=wall-tile] img")
        driver.find_element(By.CSS_SELECTOR, "[data-test=wall-tile]").click()
        camera.wait("[data-test=stage][data-ready=true]")
        camera.take("compare")
        camera.open("use", "[data-test=use-form]")
        camera.take("use")
        camera.open(f"use/{detection}", "[data-test=clip]")
        camera.take("detection")
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
