"""The floors of the house: imports only ever point down, and no room grows too large."""

import ast
import subprocess
import sys
from pathlib import Path

import pytest
from PIL import Image

from avocet.detector.model.predictor import Predictor
from tests.ready import trained_bundle

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src" / "avocet"
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
"""What each room may import. What lies beside the rooms is below all but `core`, which touches no file."""
BELOW_ALL = {"files", "archives", "readable", "loading", "output", "faults", "cores", "palette"}

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
    allowed = FLOORS[parts[0]] | {parts[0]} | (set() if parts[0] == "core" else BELOW_ALL)
    wrong = rooms_imported(path) - allowed - {"__version__"}
    assert not wrong, f"{path.name} imports {wrong}"


WINGS = {"raw", "score", "labels", "tracks"}


@pytest.mark.parametrize("path", [p for p in MODULES if "core" in p.parts], ids=lambda path: path.name)
def test_the_wings_of_core_need_only_its_root(path):
    own = path.relative_to(SOURCE / "core").parts[0]
    imported = {
        node.module.split(".")[2]
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.ImportFrom) and node.module and node.module.startswith("avocet.core.")
    }
    assert not (imported & WINGS) - {own}, f"{path.name} reaches into another wing"


def folders(root: Path, pattern: str) -> dict[Path, list[Path]]:
    found: dict[Path, list[Path]] = {}
    for path in root.rglob(pattern):
        if not {"node_modules", "page", "migrations", "__pycache__"} & set(path.parts):
            found.setdefault(path.parent, []).append(path)
    return found


def test_no_folder_holds_more_than_a_dozen_rooms():
    rooms = folders(SOURCE, "*.py")
    for kind in ("*.vue", "*.ts"):
        for folder, files in folders(ROOT / "frontend" / "src", kind).items():
            rooms[folder] = rooms.get(folder, []) + files
    for folder, files in rooms.items():
        modules = [each for each in files if each.name != "__init__.py"]
        assert len(modules) <= 12, f"{folder} holds {len(modules)} modules"


def test_one_name_names_one_thing():
    """No two modules below the web define a public function or class of one name."""
    found: dict[str, set[str]] = {}
    for path in MODULES:
        parts = path.relative_to(SOURCE).parts
        if parts[0] in ("web", "cli") or "migrations" in parts:
            continue
        for node in ast.parse(path.read_text()).body:
            if isinstance(node, ast.FunctionDef | ast.ClassDef) and not node.name.startswith(("_", "do_")):
                found.setdefault(node.name, set()).add("/".join(parts))
    several = {name: sorted(places) for name, places in found.items() if len(places) > 1}
    assert not several, several


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
    assert tops <= {
        "numpy",
        "scipy",
        "collections",
        "dataclasses",
        "functools",
        "itertools",
        "typing",
        "avocet",
    }


@pytest.mark.parametrize("module", ["server.serving", "importing", "exporting", "measuring"])
@pytest.mark.slow
def test_what_needs_no_network_starts_without_torch(module):
    """Torch takes seconds to import and hundreds of megabytes: the workers have it, the server does not.

    SciPy loads its parts where they are named in full, on first use; that spares every start a second.
    """
    look = f"import sys, avocet.cli.{module}; print(sorted(sys.modules.keys() & {{'torch', 'scipy.special', 'scipy.stats'}}))"
    done = subprocess.run([sys.executable, "-c", look], check=True, capture_output=True, text=True)
    assert done.stdout.strip() == "[]"


@pytest.mark.slow
def test_finding_boxes_in_a_picture_loads_no_database_and_no_cluster(tmp_path):
    """One picture is found in less time than those take to load."""
    picture, model = tmp_path / "a.png", tmp_path / "model.zip"
    Image.new("RGB", (64, 48)).save(picture)
    model.write_bytes(trained_bundle())
    # The graph is kept beside it from then on, and torch is not asked any more.
    Predictor.from_bundle(model)
    look = f"""
import sys
from avocet.cli.main import main
try:
    main(["detect", "--model", {str(model)!r}, {str(picture)!r}, "--out", {str(tmp_path / "out")!r}])
finally:
    print(sorted(sys.modules.keys() & {{"torch", "sqlalchemy", "alembic", "ray", "psutil", "scipy.special"}}), file=sys.stderr)
"""
    done = subprocess.run([sys.executable, "-c", look], check=True, capture_output=True, text=True)
    assert done.stderr.splitlines()[-1] == "[]"
