"""A server that runs in a process of its own, and a browser to look at it."""

import shutil
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from selenium import webdriver
from selenium.webdriver.chrome.service import Service


@dataclass
class Server:
    """A server that runs."""

    process: subprocess.Popen[str]
    port: int


@contextmanager
def served(data: Path) -> Iterator[Server]:
    """Serve a data folder at a free port."""
    command = [sys.executable, "-m", "avocet.cli.main", "serve", "--data", str(data), "--port", "0"]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    try:
        assert process.stdout is not None
        address = next(word for word in process.stdout.readline().split() if word.startswith("http://"))
        yield Server(process, int(address.rsplit(":", 1)[1]))
    finally:
        process.terminate()
        process.wait(timeout=20)


@contextmanager
def browser() -> Iterator[webdriver.Chrome]:
    """A browser without a screen, of 1280 × 800."""
    options = webdriver.ChromeOptions()
    for argument in ("--headless", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage"):
        options.add_argument(argument)
    driver = webdriver.Chrome(options=options, service=Service(shutil.which("chromedriver")))
    try:
        driver.set_window_size(1280, 800)
        driver.set_script_timeout(60)
        yield driver
    finally:
        driver.quit()
