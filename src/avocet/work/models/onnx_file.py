"""A model for other programs: its ONNX graph and a script that finds boxes with nothing else of ours."""

import zipfile
from importlib.resources import files
from pathlib import Path

from avocet.detector.engines.opening import eight_bit_bytes, graph_bytes
from avocet.detector.model.card import read_bundle_parts
from avocet.files import replacing, safe_name
from avocet.store.database import reading
from avocet.work.job_givens import ForRun
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import FileMade
from avocet.work.train.runs import get_run, model_path

GRAPH, SMALL, SCRIPT, NOTE = "model.onnx", "model-8-bit.onnx", "find_boxes.py", "README.txt"

ABOUT = """{name}

model.onnx     the network, with its classes, anchors and limits as JSON under "card" in its metadata
find_boxes.py  finds boxes with it; needs NumPy and ONNX Runtime, and Pillow for JPEG and PNG

    pip install numpy onnxruntime pillow
    python find_boxes.py model.onnx picture.jpg

Boxes are x1, y1, x2, y2 in pixels of the picture.
"""

ABOUT_SMALL = """
model-8-bit.onnx is the same network in 8 bits, as Avocet uses it: smaller, and quicker on most processors.
"""


def write_onnx(bundle: Path, target: Path, name: str) -> None:
    """Write a bundle's graph, the script and a note as a zip; the graph in 8 bits too, where the model is used so.

    Parameters
    ----------
    bundle : Path
    target : Path
        Ends in ``.zip``; replaced as a whole or not at all.
    name : str
        What to call the model.

    Raises
    ------
    InputError
        If the bundle cannot be read or the target not be written.
    """
    card, _ = read_bundle_parts(bundle)
    graph = graph_bytes(bundle)
    script = (files("avocet.detector.engines") / SCRIPT).read_bytes()
    with replacing(target) as temporary, zipfile.ZipFile(temporary, "w", zipfile.ZIP_DEFLATED) as opened:
        opened.writestr(GRAPH, graph)
        opened.writestr(SCRIPT, script)
        about = ABOUT.format(name=name)
        if card.value_ranges:
            opened.writestr(SMALL, eight_bit_bytes(graph, card))
            about += ABOUT_SMALL
        opened.writestr(NOTE, about)


def do_onnx(task: Task[ForRun]) -> FileMade:
    """The best model of a run as a file for other programs."""
    with reading(task.sessions)() as session:
        run = get_run(session, task.given.run_id)
        bundle, name = model_path(task.folder, run), run.name
    write_onnx(bundle, task.folder.export(task.job_id), name)
    return FileMade(file=f"{safe_name(name)}-onnx.zip")
