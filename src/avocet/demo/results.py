"""Results that come with the demo: two runs, what they measure, a detection run. Made by scripts/demo_results.py.

They were made from the demo project itself, so only what was learnt and found is shipped: weights, records
and the annotated clip.
"""

import io
import json
import zipfile
from dataclasses import dataclass
from importlib import resources
from pathlib import Path
from typing import Any

from pydantic import BaseModel
from sqlalchemy.orm import Session

from avocet.files import write_bytes
from avocet.store.folder import DataFolder
from avocet.store.tables import (
    Clip,
    Detection,
    Evaluation,
    Job,
    JobState,
    Part,
    Run,
    RunEpoch,
    Snapshot,
    now,
)
from avocet.work.job_givens import DetectionInputs, ForEvaluation, ForRun, Given
from avocet.work.job_kinds import DETECT, EVALUATE, TRAIN, JobKind
from avocet.work.jobs import create_job, give
from avocet.work.judge.sent import keep_held_out
from avocet.work.snapshots.frozen import Frozen
from avocet.work.snapshots.snapshots import freeze, labels_now, read_snapshot
from avocet.work.train.ahead.plan import held_out_hash
from avocet.work.train.runs import list_runs
from avocet.work.train.watch import keep_watched_pictures

RECORDS = "records.json"

RUN_COLUMNS = (
    "name", "settings", "watched", "facts", "best_epoch", "best_map50", "best_map", "minimum_score",
)  # fmt: skip
EVALUATION_COLUMNS = ("name", "settings", "report")
DETECTION_COLUMNS = ("source", "minimum_score", "overlap_limit", "minimum_scores", "order", "summary")


class Records(BaseModel):
    """What the rows of the results hold; the runs are referred to by their place."""

    runs: list[dict[str, Any]] = []
    evaluations: list[dict[str, Any]] = []
    detections: list[dict[str, Any]] = []


@dataclass(frozen=True)
class Results:
    """Records, and the files that lie beside each: ``runs/0/…``, ``evaluations/0.npz``, ``detections/0/…``."""

    records: Records
    files: dict[str, bytes]

    def below(self, place: str) -> dict[str, bytes]:
        """Files below a place, by their names there."""
        return {name[len(place) :]: content for name, content in self.files.items() if name.startswith(place)}


def pack(results: Results, path: Path) -> None:
    """Write results as the package ships them. The same results give the same bytes."""
    content = io.BytesIO()
    with zipfile.ZipFile(content, "w", zipfile.ZIP_DEFLATED, compresslevel=9) as archive:
        files = {RECORDS: json.dumps(results.records.model_dump(), separators=(",", ":")).encode()}
        for name, held in sorted((files | results.files).items()):
            archive.writestr(zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0)), held, zipfile.ZIP_DEFLATED, 9)
    write_bytes(path, content.getvalue())


def shipped_results() -> Results | None:
    """The results in the package, or None where there are none."""
    made = _unpacked("results.zip")
    found = _unpacked("found.zip")
    if made is None or found is None:
        return made
    # Packed by itself, so that it can be made anew without the weights.
    files = {name: held for name, held in made.files.items() if not name.startswith("detections/")}
    records = made.records.model_copy(update={"detections": found.records.detections})
    return Results(records, files | found.files)


def _unpacked(name: str) -> Results | None:
    packed = resources.files("avocet.demo") / name
    if not packed.is_file():
        return None
    with packed.open("rb") as file, zipfile.ZipFile(file) as archive:
        files = {each: archive.read(each) for each in archive.namelist()}
    return Results(Records.model_validate_json(files.pop(RECORDS)), files)


def add_results(session: Session, folder: DataFolder, project_id: int) -> None:
    """Record the runs and measurements that are shipped, as if they had been made in this project."""
    results = shipped_results()
    if results is None:
        return
    there = {picture.id for picture in labels_now(session, project_id).pictures}
    if any(each not in there for run in results.records.runs for each in run["watched"]):
        # Made of a demo with other pictures.
        return
    snapshot = freeze(session, folder, project_id, "First belt", "As the demo comes, mistakes and all")
    frozen = read_snapshot(folder, snapshot)
    runs = [
        _add_run(session, folder, project_id, snapshot, frozen, results, number)
        for number in range(len(results.records.runs))
    ]
    for number, record in enumerate(results.records.evaluations):
        run = runs[record["run"]]
        job = _done(session, project_id, EVALUATE, f"Measure {run.name} on the validation part", 1)
        kept = {name: record[name] for name in EVALUATION_COLUMNS}
        evaluation = Evaluation(
            project_id=project_id, run=run, snapshot=snapshot, job=job, part=Part.VALIDATION, **kept
        )
        session.add(evaluation)
        session.flush()
        _end(job, EVALUATE, ForEvaluation(evaluation_id=evaluation.id), record["outcome"])
        write_bytes(folder.evaluation(project_id, evaluation.id), results.files[f"evaluations/{number}.npz"])
        keep_held_out(folder, evaluation, frozen)


def add_detection(session: Session, folder: DataFolder, project_id: int, clip: Clip) -> None:
    """Record the detection run over the clip that is shipped, as if it had been made in this project."""
    results = shipped_results()
    if results is None:
        return
    runs = sorted(list_runs(session, project_id), key=lambda run: run.id)
    if len(runs) < len(results.records.runs):
        return
    for number, record in enumerate(results.records.detections):
        run = runs[record["run"]]
        job = _done(session, project_id, DETECT, f"Run {run.name} on {record['source']}", record["total"])
        kept = {name: record[name] for name in DETECTION_COLUMNS}
        detection = Detection(project_id=project_id, run=run, job=job, **kept)
        session.add(detection)
        session.flush()
        _end(job, DETECT, DetectionInputs(detection_id=detection.id, clip_id=clip.id), record["outcome"])
        _write(folder.detection(project_id, detection.id), results.below(f"detections/{number}/"))


def _add_run(
    session: Session,
    folder: DataFolder,
    project_id: int,
    snapshot: Snapshot,
    frozen: Frozen,
    results: Results,
    number: int,
) -> Run:
    record = results.records.runs[number]
    job = _done(session, project_id, TRAIN, f"Train {record['name']}", record["total"])
    run = Run(
        project_id=project_id,
        snapshot=snapshot,
        job=job,
        held_out=held_out_hash(frozen),
        **{name: record[name] for name in RUN_COLUMNS},
    )
    run.epochs = [RunEpoch(epoch=place, figures=each) for place, each in enumerate(record["epochs"], start=1)]
    session.add(run)
    session.flush()
    _end(job, TRAIN, ForRun(run_id=run.id), record["outcome"])
    place = folder.run(project_id, run.id)
    _write(place, results.below(f"runs/{number}/"))
    keep_watched_pictures(place, frozen, run.watched)
    return run


def _done(session: Session, project_id: int, kind: JobKind[Any, Any], title: str, total: int) -> Job:
    job = create_job(session, project_id, kind, title)
    job.done = job.total = total
    job.started_at = job.heartbeat_at = now()
    return job


def _end(job: Job, kind: JobKind[Any, Any], given: Given, outcome: dict[str, Any]) -> None:
    give(job, kind, given)
    job.state, job.ended_at, job.outcome = JobState.DONE, now(), outcome


def _write(place: Path, files: dict[str, bytes]) -> None:
    for name, content in files.items():
        write_bytes(place / name, content)
