"""What a newcomer meets first: the README, the make targets, the check of what is installed."""

import ast
import importlib
import os
import re
import subprocess
import tomllib
from pathlib import Path

import click
import pytest

from avocet.cli.main import COMMANDS, avocet

ROOT = Path(__file__).parent.parent


@pytest.mark.parametrize(
    "page",
    [
        "README.md",
        "docs/architecture.md",
        "docs/files.md",
        "docs/words.md",
        "docs/cluster.md",
        "docs/security.md",
        "bench/README.md",
    ],
)
def test_links_lead_somewhere(page):
    path = ROOT / page
    for target in re.findall(r"\]\(([^)#]+)\)", path.read_text()):
        if not target.startswith("http"):
            assert (path.parent / target).exists(), f"{page} links to {target}"


def test_every_screenshot_is_shown_somewhere():
    shown = (ROOT / "README.md").read_text()
    pictures = sorted((ROOT / "docs" / "screenshots").glob("*.png"))
    assert 5 <= len(pictures) < 20
    for picture in pictures:
        assert picture.name in shown


def test_every_dependency_is_pinned_and_within_the_constraints():
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
    constraints = dict(line.split("==") for line in (ROOT / "constraints.txt").read_text().split())
    constraints = {re.sub(r"[-_.]+", "-", name).lower(): version for name, version in constraints.items()}
    for wanted in project["dependencies"] + project["optional-dependencies"]["test"]:
        name, version = wanted.split("==")
        assert constraints[name.lower()] == version


def need(what, tmp_path, **programs):
    """Run the check with only these programs on the path (name to shell text)."""
    for name, text in programs.items():
        path = tmp_path / name
        path.write_text(f"#!/bin/sh\n{text}\n")
        path.chmod(0o755)
    for name in ("bash", "env", "id"):
        if not (tmp_path / name).exists():
            (tmp_path / name).symlink_to(
                f"/usr/bin/{name}" if Path(f"/usr/bin/{name}").exists() else f"/bin/{name}"
            )
    return subprocess.run(
        [str(tmp_path / "bash"), str(ROOT / "scripts" / "need"), what],
        capture_output=True, text=True, env={"PATH": str(tmp_path)},
    )  # fmt: skip


@pytest.mark.parametrize(
    ("what", "programs", "expected"),
    [
        ("python", {}, "python3 is missing; Avocet needs Python 3.11.1 or newer"),
        (
            "python",
            {"python3": 'case "$2" in *version_info*) exit 1;; *) echo 3.9.2;; esac'},
            "Python 3.9.2 is too old",
        ),
        (
            "python",
            {"python3": 'case "$2" in *ensurepip*) exit 1;; esac'},
            "venv module is missing (Debian: apt-get install python3-venv)",
        ),
        ("node", {}, "node is missing"),
        ("node", {"node": "exit 0"}, "npm is missing"),
        (
            "node",
            {"npm": "", "node": 'case "$1" in --version) echo v18.1.0;; *) exit 1;; esac'},
            "Node.js v18.1.0 is too old",
        ),
        ("browser", {}, "chromium and chromedriver are missing"),
    ],
)
def test_what_is_missing_or_too_old_is_named(tmp_path, what, programs, expected):
    done = need(what, tmp_path, **programs)
    assert done.returncode == 1 and expected in done.stderr and done.stderr.startswith("avocet: ")


def test_what_is_there_passes():
    for what in ("python", "node"):
        done = subprocess.run(
            [ROOT / "scripts" / "need", what], capture_output=True, text=True, env=os.environ
        )
        assert done.returncode == 0, done.stderr


def contrast(first, second):
    """Contrast ratio of two #rrggbb colours by WCAG 2."""

    def luminance(colour):
        channels = [int(colour[start : start + 2], 16) / 255 for start in (1, 3, 5)]
        linear = [c / 12.92 if c <= 0.03928 else ((c + 0.055) / 1.055) ** 2.4 for c in channels]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    light, dark = sorted((luminance(first), luminance(second)), reverse=True)
    return (light + 0.05) / (dark + 0.05)


def test_text_can_be_read():
    tokens = dict(
        re.findall(r"--([a-z-]+): (#[0-9a-f]{6});", (ROOT / "frontend/src/style/tokens.css").read_text())
    )
    pairs = [
        ("ink", "paper"), ("ink-soft", "paper"), ("ink-soft", "paper-deep"), ("ink-soft", "leg-pale"), ("leg-deep", "paper"),
        ("leg-deep", "paper-deep"), ("paper", "leg"), ("paper", "leg-deep"), ("brick", "paper"), ("brick", "paper-deep"),
        ("reed-deep", "paper"), ("stage-ink", "stage"), ("leg", "paper"),
    ]  # fmt: skip
    for text, ground in pairs:
        assert contrast(tokens[text], tokens[ground]) >= 4.5, f"{text} on {ground}"


def test_class_colours_are_told_apart():
    from avocet.work.labels.classes import COLOURS

    assert len(set(COLOURS)) == len(COLOURS) >= 9
    for colour in COLOURS:
        # Badge text is ink; boxes lie on the near-black stage.
        assert contrast(colour, "#15181b") >= 4.5


def test_the_readme_names_options_that_are_there():
    text = (ROOT / "README.md").read_text()
    lines = re.search(r"```\n(avocet serve.*?)```", text, re.S)[1].replace("\n   ", " ").splitlines()
    shown = [name for name, (_, said) in COMMANDS.items() if said]
    assert sorted(line.split()[1] for line in lines) == sorted(shown)
    for line in lines:
        name = line.split()[1]
        context = click.Context(avocet)
        command = avocet.get_command(context, name)
        known = {
            option for parameter in command.params for option in [*parameter.opts, *parameter.secondary_opts]
        }
        wanted = set(re.findall(r"--[\w-]+", line))
        assert wanted and wanted <= known, (name, wanted - known)


@pytest.mark.parametrize(
    "path", [*(ROOT / "bench").glob("*.py"), *(ROOT / "scripts").glob("*.py")], ids=lambda path: path.name
)
def test_what_benchmarks_and_scripts_take_from_the_code_is_there(path):
    """They run too long, or want too much that is not installed here, to be run in tests."""
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("avocet"):
            module = importlib.import_module(node.module)
            for name in node.names:
                if not hasattr(module, name.name):
                    importlib.import_module(f"{node.module}.{name.name}")
