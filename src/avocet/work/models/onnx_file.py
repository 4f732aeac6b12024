"""A model for other programs: its ONNX graph and a script that finds boxes with nothing else of ours."""

import zipfile
from importlib.resources import files
from pathlib import Path

from avocet.detector.engines.opening import graph_bytes
from avocet.files import replacing, safe_name
from avocet.store.database import reading
from avocet.work.job_givens import ForRun
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import FileMade
from avocet.work.train.runs import get_run, model_path

GRAPH, SCRIPT, NOTE = "model.onnx", "find_boxes.py", "README.txt"

ABOUT = """{name}

model.onnx     the network, with its classes, anchors and limits as JSON under "card" in its metadata
find_boxes.py  finds boxes with it; needs NumPy and ONNX Runtime, and Pillow for JPEG and PNG

    pip install numpy onnxruntime pillow
    python find_boxes.py model.onnx picture.jpg

Boxes are x1, y1, x2, y2 in pixels of the picture.
"""


def write_onnx(bundle: Path, target: Path, name: str) -> None:
    """Write a bundle's graph, the script and a note as a zip.

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
    graph = graph_bytes(bundle)
    script = (files("avocet.detector.engines") / SCRIPT).read_bytes()
    with replacing(target) as temporary, zipfile.ZipFile(temporary, "w", zipfile.ZIP_DEFLATED) as opened:
        opened.writestr(GRAPH, graph)
        opened.writestr(SCRIPT, script)
        opened.writestr(NOTE, ABOUT.format(name=name))


def do_onnx(task: Task[ForRun]) -> FileMade:
    """The best model of a run as a file for other programs."""
    with reading(task.sessions)() as session:
        run = get_run(session, task.given.run_id)
        bundle, name = model_path(task.folder, run), run.name
    write_onnx(bundle, task.folder.export(task.job_id), name)
    return FileMade(file=f"{safe_name(name)}-onnx.zip")
