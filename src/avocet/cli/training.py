"""``avocet train``."""

from pathlib import Path

import click
from sqlalchemy.orm import Session

from avocet.cli.common import Bar, number
from avocet.cli.data import open_data
from avocet.cli.options import cluster_option, data_option
from avocet.core.errors import InputError
from avocet.detector.model.sizes import SIZES
from avocet.detector.pictures.augmentation import FLIPS
from avocet.detector.training.settings import Settings
from avocet.files import copy_file
from avocet.store.database import Sessions
from avocet.store.folder import DataFolder
from avocet.store.tables import JobState
from avocet.work.cluster.joining import knock_at
from avocet.work.jobs import JobReporter, claim, finish
from avocet.work.models.eight_bits import try_eight_bits
from avocet.work.progress import Stopped
from avocet.work.project.projects import project_named
from avocet.work.train.runs import Start, get_run, save_model, start_run
from avocet.work.train.training import train_run


@click.command()
@click.option("--project", required=True, help="Project to train on.")
@data_option
@click.option(
    "--size", type=click.Choice(list(SIZES)), default="stint", show_default=True, help="Small to large."
)
@click.option(
    "--side",
    type=int,
    help="Longer side of the input in pixels; by default the smallest at which the boxes are well told apart.",
)
@click.option("--epochs", type=int, help="Times through all pictures; by default chosen by their number.")
@click.option("--batch", type=int, default=8, show_default=True, help="Pictures in one step.")
@click.option("--seed", type=int, default=0, show_default=True, help="The same seed gives the same weights.")
@click.option(
    "--learning-rate", type=float, help=f"How far each step goes; by default {Settings.learning_rate:g}."
)
@click.option("--patience", type=int, default=0, help="End after so many epochs without a better one.")
@click.option(
    "--flips",
    type=click.Choice(FLIPS),
    help="How pictures may be mirrored; by default judged from the boxes.",
)
@click.option(
    "--start",
    default="shipped",
    show_default=True,
    help="Starting weights: none, shipped, or a model bundle's path.",
)
@click.option("--freeze-backbone", is_flag=True, help="Leave the backbone of the starting weights as it is.")
@click.option(
    "--eight-bits",
    is_flag=True,
    help="Use the model in 8 bits where that is quicker here and as precise on the validation pictures.",
)
@cluster_option
@click.option(
    "--save", type=click.Path(path_type=Path, dir_okay=False), help="Also write the best model bundle here."
)
def train(
    project: str,
    data: Path,
    size: str,
    side: int | None,
    epochs: int | None,
    batch: int,
    seed: int,
    learning_rate: float | None,
    patience: int,
    flips: str | None,
    start: str,
    freeze_backbone: bool,
    eight_bits: bool,
    cluster: str | None,
    save: Path | None,
) -> None:
    """Train a detector on a project's labelled pictures.

    The labels are frozen as a snapshot first. The best checkpoint by mAP at 0.50:0.95 on the
    validation pictures is the model.

    \b
    Example:
      avocet train --project belt --data ~/avocet --size stint --save model.zip
    """
    folder, sessions = open_data(data, must_exist=True)
    if save is not None and not save.resolve().parent.is_dir():
        raise InputError(f"{save}: there is no folder {save.resolve().parent}")
    if cluster is not None:
        # Before a run is recorded that could only fail.
        knock_at(cluster)
    chosen = {
        "size": size,
        "side": side,
        "epochs": epochs,
        "batch": batch,
        "seed": seed,
        "learning_rate": learning_rate,
        "patience": patience,
        "freeze_backbone": freeze_backbone,
        "augmentation": {"flips": flips},
    }
    weights: Start = {"none": None, "shipped": "shipped"}.get(start, Path(start))  # type: ignore[assignment]
    with sessions.begin() as session:
        run = start_run(session, folder, project_named(session, project).id, chosen, start=weights)
        run_id, job_id = run.id, run.job_id
        claim(session, job_id, by_command=True)
    passes = run.settings["passes"]
    through = f", each {passes} times through the training pictures" if passes > 1 else ""
    click.echo(
        f"Run {run.name!r}: {run.snapshot.pictures} pictures, "
        f"side {run.settings['side']}, {run.settings['epochs']} epochs{through}"
    )
    state, message = JobState.FAILED, "The command was ended"
    try:
        with Bar("Training", JobReporter(sessions, job_id)) as bar:
            train_run(sessions, folder, run_id, bar, cluster)
        state, message = JobState.DONE, ""
    except InputError as error:
        message = str(error)
        raise
    except Stopped:
        state, message = JobState.STOPPED, "Stopped; what was done is kept"
        raise InputError("the run was stopped from the page; what was done is kept") from None
    except KeyboardInterrupt:
        state, message = JobState.INTERRUPTED, "Stopped with Ctrl-C"
        raise click.Abort from None
    finally:
        with sessions.begin() as session:
            finish(session, job_id, state, message)
    with sessions() as session:
        if transfer := get_run(session, run_id).facts.get("transfer"):
            click.echo(f"Started from {start}. {transfer}")
        _show(session, run_id)
    if eight_bits:
        _use_eight_bits(sessions, folder, run_id)
    if save is not None:
        with sessions() as session:
            save_model(folder, get_run(session, run_id), save, copy_file)
        click.echo(f"Model written to {save}")


def _use_eight_bits(sessions: Sessions, folder: DataFolder, run_id: int) -> None:
    try:
        with Bar("Trying 8 bits") as bar:
            said = try_eight_bits(sessions, folder, run_id, bar).said
    except InputError as error:
        # What was trained is there all the same, and still to be saved.
        said = f"8 bits were not tried: {error}"
    click.echo(said)


def _show(session: Session, run_id: int) -> None:
    run = get_run(session, run_id)
    best = next(each for each in run.epochs if each.epoch == run.best_epoch)
    figures = best.figures["validation"]
    width = max(map(len, figures["by_class"]), default=5)
    click.echo(
        f"Best epoch {run.best_epoch}: mAP {figures['map50']:.3f} at 0.5, {figures['map']:.3f} at 0.50:0.95"
    )
    click.echo(f"{'class':{width}}   AP@.5      AP  truths")
    for name, entry in figures["by_class"].items():
        click.echo(f"{name:{width}}  {number(entry['ap50'])}  {number(entry['ap'])}  {entry['truths']:6}")
