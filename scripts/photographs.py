"""Photographs to learn from: cut-outs laid on backgrounds, with the exact box of each.

They come from Debian packages, fetched once into a cache; nothing of them is shipped. Which of their pictures are
used says `photographs.txt`; the others are kept apart to judge by. Of those again `photographs.toml` keeps some for
`bench/photographs.py`. For Tighten every second cut-out and every second background is learnt from (part 0), the
others are measured on (part 1). The starting weights learn from all that is not kept, and from the photographs and
cut-outs of one package more, which lie one behind another in its files.
"""

import hashlib
import io
import re
import subprocess
import tomllib
from collections.abc import Iterator, Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image

PACKAGES = (
    "tuxpaint-stamps-default", "lomiri-wallpapers-16.04", "lomiri-wallpapers-20.04", "mate-backgrounds",
    "plasma-workspace-wallpapers", "lxqt-themes", "gnome-backgrounds", "ukui-wallpapers",
)  # fmt: skip
MORE = "gcompris-qt-data"
"""Pictures for children's lessons, many of them photographs, packed into files one behind another."""

PACKED = re.compile(rb"\xff\xd8\xff[\xe0\xe1\xdb]|\x89PNG\r\n\x1a\n|RIFF....WEBP", re.DOTALL)
PIECES = ("paintings", "details")
"""Files of the latter whose cut-outs are pieces of pictures, not things."""

LEAST_PHOTOGRAPH, LEAST_CUT_OUT = 192, 72
"""Pixels of the shorter side of what is learnt from."""

STAMPS = "tuxpaint-stamps-default/usr/share/tuxpaint/stamps"
NAMES = Path(__file__).with_suffix(".txt")
KEPT = Path(__file__).with_suffix(".toml")
WIDTH, HEIGHT = 960, 600
SMALLEST, LARGEST = 80, 260
"""Pixels of a cut-out's longer side."""

APART = 20
"""Pixels between a cut-out and the border."""


def fetch(cache: Path, packages: Sequence[str] = PACKAGES) -> None:
    """Fetch and unpack the packages. Raises `SystemExit` where they cannot be reached."""
    cache.mkdir(parents=True, exist_ok=True)
    for package in packages:
        if (cache / package).is_dir():
            continue
        try:
            subprocess.run(["apt-get", "download", package], cwd=cache, check=True, capture_output=True)
            archive = next(cache.glob(f"{package}_*.deb"))
            subprocess.run(["dpkg", "-x", archive, cache / package], check=True, capture_output=True)
            archive.unlink()
        except (OSError, subprocess.CalledProcessError, StopIteration) as error:
            raise SystemExit(
                f"{package} cannot be fetched, which these photographs come from: {error}"
            ) from None


def cut_outs(cache: Path, part: int) -> list[Path]:
    """Files of the cut-outs of one part."""
    names, _ = _names()
    return [path for name in names if (path := cache / STAMPS / f"{name}.png").is_file()][part::2]


def kept_cut_outs(cache: Path, task: str) -> dict[str, list[Image.Image]]:
    """Cut-outs of each class of a task of the benchmark, with transparency."""
    return {
        name: [Image.open(cache / STAMPS / f"{each}.png").convert("RGBA") for each in individuals]
        for name, individuals in _kept()[task].items()
    }


def kept_backgrounds(cache: Path, part: str) -> list[Image.Image]:
    """Backgrounds of the benchmark: those that are ``seen`` in training, or the ``new`` ones."""
    return [
        Image.open(path).convert("RGB")
        for path in _all_backgrounds(cache)
        if _is_any(path, _kept()["backgrounds"][part])
    ]


def learnt_from(cache: Path) -> tuple[list[Image.Image], dict[str, Image.Image]]:
    """What starting weights learn from: photographs, and cut-outs with transparency by a name."""
    fetch(cache, (*PACKAGES, MORE))
    kept = {each for task in _kept().values() for names in task.values() for each in names}
    names, _ = _names()
    photographs = [
        Image.open(path).convert("RGB") for path in _all_backgrounds(cache) if not _is_any(path, list(kept))
    ]
    cut_outs = {
        name: Image.open(path).convert("RGBA")
        for name in names
        if name not in kept and (path := cache / STAMPS / f"{name}.png").is_file()
    }
    for name, picture in _packed(cache):
        if picture.mode == "RGB" and min(picture.size) >= LEAST_PHOTOGRAPH:
            photographs.append(picture)
        elif picture.mode == "RGBA" and not name.startswith(PIECES) and min(picture.size) >= LEAST_CUT_OUT:
            solid = np.asarray(picture)[..., 3] > 127
            # Neither a mere glyph nor a picture that fills its frame.
            if 0.2 < solid.mean() < 0.9:
                cut_outs[name] = picture
    return photographs, cut_outs


def _packed(cache: Path) -> Iterator[tuple[str, Image.Image]]:
    """Pictures in files that hold many, with a name for each; twice the same counts once."""
    seen: set[bytes] = set()
    for path in sorted((cache / MORE).rglob("*.rcc")):
        content = path.read_bytes()
        for found in PACKED.finditer(content):
            try:
                picture = Image.open(io.BytesIO(content[found.start() :]))
                picture.load()
            except OSError:
                continue
            digest = hashlib.sha256(picture.tobytes()).digest()
            if digest not in seen:
                seen.add(digest)
                yield f"{path.stem} {found.start()}", picture


def backgrounds(cache: Path, part: int) -> list[Path]:
    """Files of the backgrounds of one part."""
    return _all_backgrounds(cache)[part::2]


def _all_backgrounds(cache: Path) -> list[Path]:
    _, parts = _names()
    found: dict[Path, Path] = {}
    for package in PACKAGES[1:]:
        for path in sorted((cache / package).rglob("*")):
            if path.suffix.lower() in (".jpg", ".png") and _is_any(path, parts):
                # Some are there in several sizes, which lie beside each other.
                same = path.parent.parent if "images" in path.parts or path.stem == "screenshot" else path
                found.setdefault(same.parent if same.name == "contents" else same, path)
    different = {hashlib.sha256(path.read_bytes()).digest(): path for path in found.values()}
    return list(different.values())


def _is_any(path: Path, parts: list[str]) -> bool:
    return any(each in path.as_posix() for each in parts)


def scenes(
    cache: Path, part: int, rounds: int, seed: int
) -> Iterator[tuple[NDArray[np.uint8], NDArray[np.float64]]]:
    """Every cut-out of a part in several scenes: pixels, and its box as corners."""
    random = np.random.default_rng([seed, part])
    grounds = [
        np.asarray(Image.open(path).convert("RGB").resize((WIDTH, HEIGHT)), dtype=float)
        for path in backgrounds(cache, part)
    ]
    for _ in range(rounds):
        for path in cut_outs(cache, part):
            picture = Image.open(path).convert("RGBA")
            scale = random.integers(SMALLEST, LARGEST) / max(picture.size)
            size = (max(8, int(picture.width * scale)), max(8, int(picture.height * scale)))
            values = np.asarray(picture.resize(size, Image.Resampling.LANCZOS), dtype=float)
            share = values[..., 3:] / 255
            rows, columns = np.nonzero(share[..., 0] > 0.5)
            if len(rows) < 50:
                continue
            made = grounds[random.integers(len(grounds))].copy()
            left = int(random.integers(APART, WIDTH - values.shape[1] - APART))
            top = int(random.integers(APART, HEIGHT - values.shape[0] - APART))
            region = made[top : top + values.shape[0], left : left + values.shape[1]]
            region[:] = region * (1 - share) + values[..., :3] * share
            box = [left + columns.min(), top + rows.min(), left + columns.max() + 1, top + rows.max() + 1]
            yield made.astype(np.uint8), np.array(box, dtype=float)


def around(mask: NDArray[np.bool_]) -> list[float]:
    """The box around what is true."""
    rows, columns = np.nonzero(mask.any(axis=1))[0], np.nonzero(mask.any(axis=0))[0]
    return [float(columns[0]), float(rows[0]), float(columns[-1] + 1), float(rows[-1] + 1)]


def _names() -> tuple[list[str], list[str]]:
    """Names of the cut-outs, and parts of the paths of the backgrounds."""
    lines = [line.strip() for line in NAMES.read_text().splitlines() if line.strip()]
    middle = lines.index("# Backgrounds")
    return lines[1:middle], lines[middle + 1 :]


def _kept() -> dict[str, dict[str, list[str]]]:
    """What is kept for the benchmark: cut-outs by task and class, and backgrounds."""
    return tomllib.loads(KEPT.read_text())
