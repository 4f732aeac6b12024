"""The page and the command line speak the words of docs/words.md, and one key does one thing."""

import re
from pathlib import Path

import click
import pytest

from avocet.cli.main import COMMANDS, avocet

ROOT = Path(__file__).parents[1]
PAGE = ROOT / "frontend" / "src"
WORDS = (ROOT / "docs" / "words.md").read_text()
KEY = re.compile(r'keys:\s*\[([^\]]+)\],\s*label:\s*(?:"([^"]+)"|`([^`]+)`)', re.S)


def rows(heading: str) -> list[list[str]]:
    """The cells of the table under a heading, without its head."""
    section = WORDS.split(f"## {heading}\n")[1].split("\n## ")[0]
    lines = [line for line in section.splitlines() if line.startswith("|")]
    return [[cell.strip() for cell in line.strip("|").split("|")] for line in lines[2:]]


def shunned() -> list[str]:
    cells = [row[2] for heading in ("What is done", "What there is") for row in rows(heading)]
    return [word.strip().lower() for cell in cells for word in cell.split(",") if word.strip()]


def spoken_in_page() -> list[tuple[str, str]]:
    """Every text of the page: between tags, in attributes that are read out, and in strings of its script."""
    found = []
    for path in sorted(PAGE.rglob("*")):
        if path.suffix not in (".vue", ".ts") or path.name in ("schema.d.ts",):
            continue
        text = re.sub(
            r"/\*.*?\*/|<!--.*?-->|(?m:^\s*//.*$)|<style.*?</style>", "", path.read_text(), flags=re.S
        )
        between = re.findall(r">([^<>]*[A-Za-z][^<>]*)<", text)
        quoted = [a or b or c for a, b, c in re.findall(r'"([^"\n]*)"|`([^`]*)`|\'([^\'\n]*)\'', text)]
        said = (" ".join(each.split()).lower() for each in between + quoted)
        found += [(str(path.relative_to(PAGE)), each) for each in said]
    return found


def spoken_on_command_line() -> list[tuple[str, str]]:
    """The help of every command."""
    found = []
    for name in COMMANDS:
        context = click.Context(avocet)
        command = avocet.get_command(context, name)
        found.append((name, command.get_help(click.Context(command, context, name)).lower()))
    return found


@pytest.fixture(scope="module")
def spoken():
    page, commands = spoken_in_page(), spoken_on_command_line()
    # What is looked through is there: a word of each that everyone knows.
    assert any("tighten" in text for _, text in page) and any(
        "--minimum-score" in text for _, text in commands
    )
    return page + commands


@pytest.mark.parametrize("word", shunned())
def test_one_thing_has_one_name(spoken, word):
    whole = re.compile(rf"(?<![\w-]){re.escape(word)}(?![\w-])")
    assert [(place, text) for place, text in spoken if whole.search(text)] == []


def test_every_command_calls_the_minimum_score_so():
    told = {name: text for name, text in spoken_on_command_line()}
    assert all("--minimum-score" in told[name] for name in ("detect", "evaluate"))


def keys_of_the_page() -> list[tuple[str, str, str]]:
    """Place, key and label of every key, digits left out: they stand for the class or tab of that number."""
    found = []
    for path in sorted([*PAGE.rglob("*.vue"), *PAGE.rglob("*.ts")]):
        for keys, plain, made in KEY.findall(path.read_text()):
            for key in re.findall(r'"([^"]+)"', keys):
                if not key.isdigit():
                    found.append((path.name, key, plain or made))
    return found


def test_one_key_does_one_thing():
    meant = {cells[0].replace(" ", "+").lower(): cells[1] for cells in rows("Keys")}
    found = keys_of_the_page()
    assert len(found) > 60
    letters = re.compile(r"(Shift\+|Ctrl\+)?([a-z,.\[\]{}]|Enter)")
    strange = [
        (place, key, label)
        for place, key, label in found
        if letters.fullmatch(key)
        and key not in ("Enter", "Ctrl+c", "Ctrl+v", "Ctrl+y", "Ctrl+z")
        and not label.startswith(tuple(meant.get(key.lower(), "\0").split(", or on a clip: ")))
    ]
    assert strange == []


def test_nothing_that_stops_hangs_on_a_lone_letter():
    stops = [key for _, key, label in keys_of_the_page() if label.startswith("Stop")]
    assert stops and all(key == "Ctrl+." for key in stops)


def test_hints_name_what_the_list_of_keys_names():
    labels = {label for _, _, label in keys_of_the_page()}
    hints = {
        hint for path in PAGE.rglob("*.vue") for hint in re.findall(r"v-hint=\"'([^']+)'\"", path.read_text())
    }
    assert len(hints) > 25 and hints <= labels
