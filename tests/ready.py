"""A project's run that is trained already: the demo's own model, so that there is something to find at once."""

import zipfile
from pathlib import Path

import avocet
from avocet.files import write_bytes
from avocet.store.tables import JobState, Run
from avocet.work.job_givens import ForRun
from avocet.work.job_kinds import TRAIN
from avocet.work.jobs import create_job, give
from avocet.work.snapshots.snapshots import freeze

RESULTS = Path(avocet.__file__).parent / "demo" / "results.zip"


def trained_bundle() -> bytes:
    """The bundle of the demo's first run, a Stint."""
    with zipfile.ZipFile(RESULTS) as archive:
        return archive.read("runs/0/best.zip")


def add_to_weights(path: Path, what: float = 1.0) -> None:
    """Give a bundle other weights: all raw outputs of its first level are so much more."""
    import torch

    from avocet.detector.model.bundle import read_bundle, write_bundle

    card, network = read_bundle(path)
    with torch.no_grad():
        network.heads[0].bias.add_(what)
    write_bundle(path, card, network.state_dict())


def add_trained_run(session, folder, project_id, name="Belt"):
    """Record a run of a project that has labels, done, with the demo's model as its best."""
    snapshot = freeze(session, folder, project_id)
    job = create_job(session, project_id, TRAIN, f"Train {name}")
    job.state = JobState.DONE
    run = Run(
        project_id=project_id, snapshot=snapshot, job=job, name=name, settings={"size": "stint"}, facts={},
        best_epoch=1, best_map50=0.97, best_map=0.87, minimum_score=0.4,
    )  # fmt: skip
    session.add(run)
    session.flush()
    give(job, TRAIN, ForRun(run_id=run.id))
    for which in ("best", "latest"):
        write_bytes(folder.run(project_id, run.id) / f"{which}.zip", trained_bundle())
    return run
