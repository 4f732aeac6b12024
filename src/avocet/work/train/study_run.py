"""Doing a study: trainings on nested subsets of the training pictures, measured on the same ones."""

import shutil

from avocet.core.errors import InputError
from avocet.readable import so_many
from avocet.store.database import reading
from avocet.store.tables import Part
from avocet.work.cluster.asked import cluster_if
from avocet.work.cluster.training.studying import study_together
from avocet.work.job_givens import ForStudy
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import Studied
from avocet.work.snapshots.frozen import labelled_pictures
from avocet.work.snapshots.snapshots import read_snapshot
from avocet.work.train.planned import Measured, Planned, StudyWork, settings_of, train_planned
from avocet.work.train.studies import get_study


def do_study(task: Task[ForStudy]) -> Studied:
    """Do what is left of a study. Each training that is done is kept; one that fails stops no other.

    Raises
    ------
    Stopped
        If a person stopped it.
    InputError
        If some failed; what is resumed then is only these.
    """
    sessions, study_id = task.sessions, task.given.study_id
    with reading(sessions)() as session:
        study = get_study(session, study_id)
        frozen = read_snapshot(task.folder, study.snapshot)
    done = {(each["pictures"], each["seed"]) for each in study.results}
    left = [each for each in study.plan if (each["pictures"], each["seed"]) not in done]
    failed: list[str] = []

    def on_measured(wanted: Planned, measured: Measured) -> None:
        with sessions.begin() as session:
            kept = get_study(session, study_id)
            kept.results = [*kept.results, wanted | measured]

    def on_failed(wanted: Planned, reason: str) -> None:
        failed.append(f"{so_many(wanted['pictures'], 'picture')} with seed {wanted['seed']}: {reason}")

    work = StudyWork(task.folder, study, frozen, left, task.reporter, on_measured, on_failed)
    cluster = cluster_if(task.given.on_cluster)
    if cluster is None:
        _here(work)
    else:
        study_together(cluster, work)
    if failed:
        raise InputError(
            f"{len(failed)} of {so_many(len(study.plan), 'training')} failed. {'; '.join(failed)}"
        )
    return Studied(trainings=len(study.plan))


def _here(work: StudyWork) -> None:
    """One after the other on this machine."""
    folder, study, frozen, reporter = work.folder, work.study, work.frozen, work.reporter
    chosen, steps = settings_of(study)
    held_out = labelled_pictures(folder, study.project_id, frozen, Part.VALIDATION)
    pictures = labelled_pictures(folder, study.project_id, frozen, Part.TRAINING)
    place = folder.study(study.project_id, study.id)
    total = len(study.plan) * steps
    for number, wanted in enumerate(work.left, start=work.ended):

        def on_step(
            step: int, loss: float, before: int = number * steps, count: int = wanted["pictures"]
        ) -> None:
            done = min(before + step, total)
            reporter.progress(done, total, f"{count} pictures, step {step}, loss {loss:.2f}")

        try:
            measured = train_planned(
                chosen,
                steps,
                wanted,
                frozen.classes,
                pictures,
                held_out,
                place,
                on_step,
                reporter.should_stop,
            )
        except InputError as error:
            work.on_failed(wanted, str(error))
        else:
            work.on_measured(wanted, measured)
        shutil.rmtree(place, ignore_errors=True)
