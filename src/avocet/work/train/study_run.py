"""Doing a study: trainings on nested subsets of the training pictures, measured on the same ones."""

import math
import shutil
from dataclasses import replace
from typing import Any

import numpy as np

from avocet.detector.training.settings import settings_from
from avocet.detector.training.trainer import Training
from avocet.store.database import reading
from avocet.store.tables import Part
from avocet.work.job_givens import ForStudy
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import Studied
from avocet.work.progress import Stopped
from avocet.work.snapshots.frozen import labelled_pictures
from avocet.work.snapshots.snapshots import read_snapshot
from avocet.work.train.studies import get_study

PIECES = 8
"""Checkpoints of each training, from which it resumes."""


def do_study(task: Task[ForStudy]) -> Studied:
    """Do what is left of a study. Each training that is done is kept; a broken-off one resumes.

    Raises
    ------
    Stopped
        If a person stopped it.
    InputError
        If a picture is gone or a loss is no longer finite.
    """
    sessions, folder, reporter = task.sessions, task.folder, task.reporter
    study_id = task.given.study_id
    with reading(sessions)() as session:
        study = get_study(session, study_id)
        frozen = read_snapshot(folder, study.snapshot)
    record = dict(study.settings)
    steps = int(record.pop("steps"))
    chosen = settings_from(record)
    held_out = labelled_pictures(folder, study.project_id, frozen, Part.VALIDATION)
    training = labelled_pictures(folder, study.project_id, frozen, Part.TRAINING)
    place = folder.study(study.project_id, study_id)
    total = len(study.plan) * steps
    for number in range(len(study.results), len(study.plan)):
        wanted = study.plan[number]
        # The same order for every size of subset, so that each holds the smaller ones.
        order = np.random.default_rng([wanted["seed"], 4]).permutation(len(training))
        some = [training[int(index)] for index in order[: wanted["pictures"]]]
        passes = math.ceil(steps * chosen.batch / (PIECES * len(some)))
        settings = replace(chosen, seed=wanted["seed"], epochs=PIECES, passes=passes, patience=0)
        run = Training(settings, frozen.classes, some, held_out, place)
        run.resume()

        def on_step(step: int, loss: float, before: int = number * steps, count: int = len(some)) -> None:
            reporter.progress(
                min(before + step, total), total, f"{count} pictures, step {step}, loss {loss:.2f}"
            )

        try:
            reports: list[Any] = []
            if not run.run(reports.append, on_step, reporter.should_stop):
                raise Stopped
        finally:
            run.close()
        # The end counts, not the best epoch: picking the best would flatter short trainings.
        validation = reports[-1].validation if reports else run.validate()
        with sessions.begin() as session:
            kept = get_study(session, study_id)
            kept.results = [*kept.results, wanted | {"map": validation.map, "map50": validation.map50}]
        shutil.rmtree(place, ignore_errors=True)
    return Studied(trainings=len(study.plan))
