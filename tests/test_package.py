"""What `pip` installs: a wheel in an environment of its own does the whole job, and holds what it needs."""

import os
import signal
import site
import subprocess
import sys
import urllib.request
import venv
import zipfile
from pathlib import Path

import pytest

from avocet.demo.belt import render_still
from tests.conftest import write_coco_set
from tests.servers import address_in

ROOT = Path(__file__).parent.parent

pytestmark = pytest.mark.slow


@pytest.fixture(scope="module")
def wheel(tmp_path_factory):
    """The wheel of what is here, made as `make package` makes it."""
    place = tmp_path_factory.mktemp("package")
    source = place / "source"
    # Building leaves files beside the source; these shall not be the repository's.
    source.mkdir()
    for name in ("src", "pyproject.toml", "README.md"):
        (source / name).symlink_to(ROOT / name)
    command = [
        sys.executable,
        "-m",
        "pip",
        "wheel",
        "--quiet",
        "--no-deps",
        "--no-build-isolation",
        "--no-index",
    ]
    subprocess.run([*command, "--wheel-dir", place, source], check=True, timeout=300)
    (made,) = place.glob("avocet-*.whl")
    return made


@pytest.fixture(scope="module")
def installed(wheel, tmp_path_factory):
    """Runs the installed command; only the packages that it depends on come from this environment."""
    place = tmp_path_factory.mktemp("installed")
    venv.create(place / "env", with_pip=True)
    python = place / "env" / "bin" / "python"
    (packages,) = (place / "env" / "lib").glob("python*/site-packages")
    # Named in a file like this they are found, but no file like this among them is read: not the one of the sources.
    (packages / "dependencies.pth").write_text("\n".join(site.getsitepackages()))
    command = [
        python,
        "-m",
        "pip",
        "install",
        "--quiet",
        "--no-deps",
        "--no-index",
        "--ignore-installed",
        wheel,
    ]
    subprocess.run(command, check=True, timeout=300)

    def run(*arguments, **options):
        command = [place / "env" / "bin" / "avocet", *map(str, arguments)]
        return subprocess.run(
            command, capture_output=True, text=True, timeout=900, cwd=place, env=environment(), **options
        )

    run.place = place
    return run


def environment():
    """None of this process's own search for modules."""
    return {name: value for name, value in os.environ.items() if not name.startswith("PYTHON")}


@pytest.mark.long
def test_it_holds_the_page_the_weights_the_demo_and_no_tests(wheel):
    names = zipfile.ZipFile(wheel).namelist()
    for wanted in (
        "avocet/web/page/index.html",
        "avocet/detector/weights/stint.zip",
        "avocet/demo/results.zip",
        "avocet/store/migrations/versions/0001_first.py",
    ):
        assert any(name.startswith(wanted.rsplit("_", 1)[0]) for name in names), wanted
    assert not [name for name in names if name.split("/")[0] in ("tests", "bench") or "test_" in name]
    modules = {path.relative_to(ROOT / "src").as_posix() for path in (ROOT / "src" / "avocet").rglob("*.py")}
    assert modules == {name for name in names if name.endswith(".py")}
    page = ROOT / "src" / "avocet" / "web" / "page"
    assert {path.relative_to(ROOT / "src").as_posix() for path in page.rglob("*") if path.is_file()} == {
        name for name in names if name.startswith("avocet/web/page/")
    }


@pytest.mark.long
def test_it_does_the_whole_job_where_nothing_else_is(installed, tmp_path):
    place = installed.place
    looked = installed("doctor")
    assert looked.returncode == 0, looked.stdout
    assert "Nothing keeps it from working" in looked.stdout
    where = subprocess.run(
        [place / "env" / "bin" / "python", "-c", "import avocet; print(avocet.__file__)"],
        capture_output=True, text=True, cwd=place, env=environment(),
    ).stdout  # fmt: skip
    assert where.startswith(str(place)), "the installed one, not the sources"

    truth = write_coco_set(place / "set", [render_still(seed) for seed in range(8)])
    data = ("--project", "belt", "--data", place / "data")
    for arguments in (
        ("import", truth, "--pictures", place / "set", *data),
        ("train", *data, "--size", "stint", "--epochs", "2", "--batch", "2", "--save", place / "model.zip"),
        ("evaluate", "--model", place / "model.zip", "--truth", truth, "--pictures", place / "set"),
        ("detect", "--model", place / "model.zip", "--out", place / "found", place / "set"),
    ):
        done = installed(*arguments)
        assert done.returncode == 0, (arguments[0], done.stdout, done.stderr)
    assert len((place / "found" / "detections.jsonl").read_text().splitlines()) == 8

    process = subprocess.Popen(
        [place / "env" / "bin" / "avocet", "serve", "--data", place / "data", "--port", "0"],
        stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, cwd=place, env=environment(),
    )  # fmt: skip
    try:
        address = address_in(process.stdout.readline())
        with urllib.request.urlopen(address, timeout=60) as reply:
            assert b"<title>Avocet" in reply.read()
        with urllib.request.urlopen(f"{address}/api/v1/projects", timeout=60) as reply:
            assert b'"belt"' in reply.read()
    finally:
        process.send_signal(signal.SIGTERM)
        assert process.wait(timeout=60) == 0
