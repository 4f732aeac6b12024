"""A server of its own for whoever wants to harm one."""

import os
import subprocess
import sys

import pytest


@pytest.fixture
def serve(tmp_path):
    """Starts servers on one data folder; each is its process and the first line that it says."""
    started = []

    def start(*arguments, **environment):
        command = [
            sys.executable,
            "-m",
            "avocet.cli.main",
            "serve",
            "--data",
            str(tmp_path / "data"),
            *arguments,
        ]
        process = subprocess.Popen(
            command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, env=os.environ | environment
        )
        started.append(process)
        return process, process.stdout.readline()

    yield start
    for process in started:
        process.terminate()
    for process in started:
        try:
            process.wait(timeout=30)
        except subprocess.TimeoutExpired:
            process.kill()


def port_in(line):
    """The port of a server that says where it is."""
    return int(next(word for word in line.split() if word.startswith("http://")).rsplit(":", 1)[1])


def pytest_collection_modifyitems(items):
    """What is made to harm takes its time: `make quick` leaves it out."""
    for item in items:
        if "hostile" in item.path.parts:
            item.add_marker(pytest.mark.slow)
