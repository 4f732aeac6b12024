"""What docs/architecture.md says is where it says: every file is there, and every name in it."""

import re
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
TEXT = (ROOT / "docs" / "architecture.md").read_text()
NAMED = sorted(set(re.findall(r"`((?:src|frontend|tests)/[\w./-]+)(?::(\w+))?`", TEXT)))


def test_the_walks_name_enough_to_follow_them():
    walks = re.findall(r"^### (.+?)$(.+?)(?=^##)", TEXT, re.M | re.S)
    assert len(walks) == 3
    for walk, steps in walks:
        assert len(re.findall(r"^\d+\. .*`.+:\w+`", steps, re.M)) >= 5, walk


@pytest.mark.parametrize(("path", "name"), NAMED)
def test_what_is_named_is_there(path, name):
    place = ROOT / path
    assert place.exists(), f"{path} is not there"
    if name:
        made = rf"^\s*(?:export )?(?:async )?(?:def|class|function|const) {name}\b|^{name}\b.*="
        assert re.search(made, place.read_text(), re.M), f"{path} makes no {name}"


@pytest.mark.parametrize(
    "subject", re.findall(r"`(\w+)`", TEXT.split("One word finds")[1].split("are folders")[0])
)
def test_a_subject_has_one_name_on_every_floor(subject):
    assert list((ROOT / "src/avocet/work" / subject).glob("*.py"))
    for web in ("routes", "schemas"):
        place = ROOT / "src/avocet/web" / web
        assert (place / f"{subject}.py").is_file() or list((place / subject).glob("*.py"))
    assert list((ROOT / "frontend/src/views" / subject).rglob("*.vue"))
    for floor in ("work", "web"):
        assert (ROOT / "tests" / floor / f"test_{subject}.py").is_file()
