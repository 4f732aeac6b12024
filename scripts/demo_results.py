"""Makes the results that are shipped with the demo: two runs, what each measures, one detection run over the clip.

    python scripts/demo_results.py FOLDER
    python scripts/demo_results.py FOLDER --clip-only

The second makes only the detection run anew, with the weights that are shipped. FOLDER gets the data folder in which all
is made. Everything is done by the functions that the worker calls, with one thread, so that the same machine makes the same
results again, but for how long each thing took.
"""

import argparse
import os
from pathlib import Path

# Before torch reads it: sums of several threads come in another order.
os.environ["OMP_NUM_THREADS"] = "1"

import safetensors.torch
import torch

from avocet.demo.project import add_demo_clip, make_demo_project
from avocet.demo.results import DETECTION_COLUMNS, EVALUATION_COLUMNS, RUN_COLUMNS, Records, Results, pack
from avocet.detector.model.card import read_bundle_parts, write_bundle_parts
from avocet.files import replacing
from avocet.store.database import Sessions, open_database
from avocet.store.folder import DataFolder
from avocet.store.tables import Clip, Detection, Evaluation, JobState, Run
from avocet.work.job_givens import DetectionInputs, ForEvaluation
from avocet.work.job_kinds import Task
from avocet.work.jobs import finish
from avocet.work.judge.evaluate import do_evaluation
from avocet.work.judge.evaluations import Order, start_evaluation
from avocet.work.progress import SILENT
from avocet.work.project.projects import list_projects
from avocet.work.train.runs import list_runs, start_run
from avocet.work.train.training import train_run
from avocet.work.use.detections import Source, start_detection
from avocet.work.use.run import do_detection

DEMO = Path(__file__).parent.parent / "src" / "avocet" / "demo"
TARGET, FOUND = DEMO / "results.zip", DEMO / "found.zip"
RUNS = ({"size": "stint"}, {"size": "dunlin", "learning_rate": 0.002})
KEPT = ("best.zip", "log.txt", "steps.csv")
LARGEST = 8_000_000


def main() -> None:
    """Make the results, and pack them."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("folder", type=Path)
    parser.add_argument("--clip-only", action="store_true")
    asked = parser.parse_args()
    folder = DataFolder(asked.folder.resolve())
    sessions = open_database(folder.database)
    make_demo_project(sessions, folder, results=asked.clip_only)
    add_demo_clip(sessions, folder, results=False)
    with sessions() as session:
        project_id = list_projects(session)[0].id
        runs = sorted(run.id for run in list_runs(session, project_id))
    if not asked.clip_only:
        runs = [train(sessions, folder, project_id, settings) for settings in RUNS]
        evaluations = [measure(sessions, folder, project_id, run_id) for run_id in runs]
        pack(gather(sessions, folder, runs, evaluations), TARGET)
    pack(gather_found(sessions, folder, find(sessions, folder, runs[0])), FOUND)
    sizes = [path.stat().st_size for path in (TARGET, FOUND)]
    print(
        ", ".join(
            f"{path.name} {size / 1e6:.2f} MB" for path, size in zip((TARGET, FOUND), sizes, strict=True)
        )
    )
    assert sizes[0] < LARGEST


def train(sessions: Sessions, folder: DataFolder, project_id: int, settings: dict[str, object]) -> int:
    """Train a run to its end; its model is kept in half precision, as it is shipped."""
    with sessions.begin() as session:
        run = start_run(session, folder, project_id, dict(settings), start="shipped")
        run_id, job_id = run.id, run.job_id
    outcome = train_run(sessions, folder, run_id, SILENT)
    with sessions.begin() as session:
        finish(session, job_id, JobState.DONE, outcome=outcome.model_dump(mode="json"))
    halve(folder.run(project_id, run_id) / "best.zip")
    return run_id


def halve(path: Path) -> None:
    """Write a bundle's weights with fewer digits; what is measured is measured with those.

    Half precision, and of kernels only 6 of its 10 binary digits: the rest packs to nothing.
    """
    card, content = read_bundle_parts(path)
    weights = safetensors.torch.load(content)
    halved = {
        name: value.half() if value.dtype == torch.float32 else value for name, value in weights.items()
    }
    for value in halved.values():
        if value.ndim > 1:
            value.view(torch.int16).add_(8).bitwise_and_(~15)
    with replacing(path) as temporary:
        write_bundle_parts(temporary, card, safetensors.torch.save(halved))


def measure(sessions: Sessions, folder: DataFolder, project_id: int, run_id: int) -> int:
    """Measure a run on the validation part."""
    with sessions.begin() as session:
        evaluation = start_evaluation(session, folder, project_id, Order(run_id=run_id))
        evaluation_id, job_id = evaluation.id, evaluation.job_id
    task = Task(sessions, folder, job_id, ForEvaluation(evaluation_id=evaluation_id), SILENT, lambda *_: None)
    outcome = do_evaluation(task)
    with sessions.begin() as session:
        finish(session, job_id, JobState.DONE, outcome=outcome.model_dump(mode="json"))
    return evaluation_id


def find(sessions: Sessions, folder: DataFolder, run_id: int) -> int:
    """Run a model over the clip."""
    with sessions.begin() as session:
        clip = session.query(Clip).one()
        detection = start_detection(session, folder, run_id, Source(clip_id=clip.id))
        detection_id, job_id = detection.id, detection.job_id
        given = DetectionInputs(detection_id=detection_id, clip_id=clip.id)
    outcome = do_detection(Task(sessions, folder, job_id, given, SILENT, lambda *_: None))
    with sessions.begin() as session:
        finish(session, job_id, JobState.DONE, outcome=outcome.model_dump(mode="json"))
    return detection_id


def gather(sessions: Sessions, folder: DataFolder, runs: list[int], evaluations: list[int]) -> Results:
    """Records and files of the runs and measurements."""
    records, files = Records(), {}
    with sessions() as session:
        for number, run_id in enumerate(runs):
            run = session.get_one(Run, run_id)
            place = folder.run(run.project_id, run_id)
            kept = [place / name for name in KEPT] + sorted((place / "watch").iterdir())
            files |= {
                f"runs/{number}/{path.relative_to(place).as_posix()}": path.read_bytes() for path in kept
            }
            records.runs.append(
                {name: getattr(run, name) for name in RUN_COLUMNS}
                | {
                    "total": run.job.total,
                    "outcome": run.job.outcome,
                    "epochs": [each.figures for each in run.epochs],
                }
            )
        for number, evaluation_id in enumerate(evaluations):
            evaluation = session.get_one(Evaluation, evaluation_id)
            path = folder.evaluation(evaluation.project_id, evaluation_id)
            files[f"evaluations/{number}.npz"] = path.read_bytes()
            records.evaluations.append(
                {name: getattr(evaluation, name) for name in EVALUATION_COLUMNS}
                | {"run": number, "outcome": evaluation.job.outcome}
            )
    return Results(records, files)


def gather_found(sessions: Sessions, folder: DataFolder, detection_id: int) -> Results:
    """Record and files of the detection run."""
    records, files = Records(), {}
    with sessions() as session:
        detection = session.get_one(Detection, detection_id)
        place = folder.detection(detection.project_id, detection_id)
        files |= {
            f"detections/0/{path.relative_to(place).as_posix()}": path.read_bytes()
            for path in sorted(place.rglob("*"))
            if path.is_file()
        }
        records.detections.append(
            {name: getattr(detection, name) for name in DETECTION_COLUMNS}
            | {"run": 0, "outcome": detection.job.outcome, "total": detection.summary["pictures"]}
        )
    return Results(records, files)


if __name__ == "__main__":
    main()
