"""Reading a large COCO file: seconds and memory against plain ``json.loads`` of the same bytes."""

import json
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

PICTURES, BOXES = 100_000, 850_000

PLAIN = """
import json, resource, sys, time
begun = time.perf_counter()
json.loads(open(sys.argv[1], "rb").read())
print(time.perf_counter() - begun, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6)
"""

OURS = """
import resource, sys, time
from pathlib import Path
from avocet.formats.coco import read_coco
from avocet.formats.files import LabelFiles
begun = time.perf_counter()
record = read_coco(LabelFiles.of_path(Path(sys.argv[1])))
assert sum(len(picture.boxes) for picture in record.pictures) == %d and not record.faults
print(time.perf_counter() - begun, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6)
"""


def make(path: Path) -> None:
    """A COCO file of made-up boxes, many of them at whole hundredths of pixels as exporters write them."""
    random = np.random.default_rng(0)
    images = [
        {"id": n, "file_name": f"belt-{n:06d}.jpg", "width": 960, "height": 540} for n in range(PICTURES)
    ]
    corners = np.round(random.uniform(0, 400, (BOXES, 2)), 2).tolist()
    sizes = np.round(random.uniform(5, 79, (BOXES, 2)), 2).tolist()
    on = random.integers(0, PICTURES, BOXES).tolist()
    # One class is frequent: more than a quarter of all boxes.
    of = np.where(random.random(BOXES) < 0.28, 1, random.integers(1, 81, BOXES)).tolist()
    annotations = [
        {"id": n, "image_id": on[n], "category_id": of[n], "bbox": [*corners[n], *sizes[n]], "iscrowd": 0}
        for n in range(BOXES)
    ]
    categories = [{"id": n, "name": f"good {n}"} for n in range(1, 81)]
    path.write_text(json.dumps({"images": images, "annotations": annotations, "categories": categories}))


def measured(program: str, path: Path) -> tuple[float, float]:
    """Seconds and gigabytes of a program in a process of its own."""
    done = subprocess.run(
        [sys.executable, "-c", program, str(path)], capture_output=True, text=True, check=True
    )
    seconds, memory = map(float, done.stdout.split())
    return seconds, memory


def main() -> None:
    """Print both, in turn in one run."""
    with tempfile.TemporaryDirectory() as place:
        path = Path(place) / "truth.json"
        make(path)
        begun = time.perf_counter()
        plain, plain_memory = measured(PLAIN, path)
        ours, memory = measured(OURS % BOXES, path)
        size = path.stat().st_size / 1e6
    print(
        f"{PICTURES:,} pictures, {BOXES:,} boxes, {size:.0f} MB of COCO JSON ({time.perf_counter() - begun:.0f} s in all)"
    )
    print(f"json.loads alone   {plain:6.1f} s  {plain_memory:.2f} GB")
    print(
        f"read and checked   {ours:6.1f} s  {memory:.2f} GB   {ours / plain:.1f} times as long (wanted: under 60 s and 2 GB)"
    )
