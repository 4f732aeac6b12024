"""The floors of the house: imports only ever point down, and no room grows too large."""

import ast
import subprocess
import sys
from pathlib import Path

import pytest

SOURCE = Path(__file__).parent.parent / "src" / "avocet"
FLOORS = {
    "cli": {"web", "jobs", "work", "demo", "detector", "formats", "media", "store", "core"},
    "web": {"work", "formats", "media", "store", "core"},
    "jobs": {"work", "store", "core"},
    "demo": {"work", "media", "store", "core"},
    "work": {"detector", "formats", "media", "store", "core"},
    "detector": {"core"},
    "formats": {"core"},
    "media": {"core"},
    "store": {"core"},
    "core": set(),
}
"""What each room may import. `files` and `archives` lie below all but `core`, which touches no file."""

MODULES = sorted(SOURCE.rglob("*.py"))


def rooms_imported(path: Path) -> set[str]:
    found = set()
    for node in ast.walk(ast.parse(path.read_text())):
        names = []
        if isinstance(node, ast.Import):
            names = [alias.name for alias in node.names]
        elif isinstance(node, ast.ImportFrom) and node.module:
            assert node.level == 0, f"{path}: relative import"
            names = [node.module]
            if node.module == "avocet":
                names = [f"avocet.{alias.name}" for alias in node.names]
        found |= {name.split(".")[1] for name in names if name.startswith("avocet.")}
    return found


@pytest.mark.parametrize("path", MODULES, ids=lambda path: str(path.relative_to(SOURCE)))
def test_imports_point_down_and_rooms_stay_small(path):
    parts = path.relative_to(SOURCE).parts
    assert len(path.read_text().splitlines()) < 500
    if len(parts) == 1:
        return
    allowed = FLOORS[parts[0]] | {parts[0]} | (set() if parts[0] == "core" else {"files", "archives"})
    wrong = rooms_imported(path) - allowed - {"__version__"}
    assert not wrong, f"{path.name} imports {wrong}"


@pytest.mark.parametrize(
    "path", [path for path in MODULES if "core" in path.parts], ids=lambda path: path.name
)
def test_core_knows_only_numbers(path):
    tree = ast.parse(path.read_text())
    tops = {
        alias.name.split(".")[0]
        for node in ast.walk(tree)
        if isinstance(node, ast.Import)
        for alias in node.names
    }
    tops |= {
        node.module.split(".")[0]
        for node in ast.walk(tree)
        if isinstance(node, ast.ImportFrom) and node.module
    }
    assert tops <= {"numpy", "scipy", "collections", "dataclasses", "typing", "avocet"}


@pytest.mark.parametrize("module", ["serving", "importing", "exporting", "measuring"])
def test_what_needs_no_network_starts_without_torch(module):
    """Torch takes seconds to import and hundreds of megabytes: the workers have it, the server does not."""
    look = f"import sys, avocet.cli.{module}; sys.exit('torch' in sys.modules)"
    assert subprocess.run([sys.executable, "-c", look], check=False).returncode == 0
