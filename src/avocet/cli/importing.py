"""``avocet import``."""

from pathlib import Path

import click

from avocet.cli.common import Bar, data_option, open_data, stop_at_faults
from avocet.core.errors import InputError
from avocet.formats.files import LabelFiles
from avocet.formats.kinds import FORMATS, format_called, recognise
from avocet.formats.parts import read_parts
from avocet.store.database import reading
from avocet.work.exchange.located import FolderPictures, import_located, locate, opened_labels
from avocet.work.exchange.project_labels import ProjectPictures, pair_pictures, read_labels, unusable_names
from avocet.work.exchange.taking import take_over
from avocet.work.pictures.splits import labelled_by_part, split_pictures
from avocet.work.problems import NotFound
from avocet.work.project.projects import create_project, project_named


@click.command("import")
@click.argument("labels", type=click.Path(path_type=Path))
@click.option(
    "--pictures",
    type=click.Path(path_type=Path),
    help="Folder with the pictures; by default those beside the labels, in their folder or archive.",
)
@click.option("--project", required=True, help="Project to add them to; made if there is none of that name.")
@data_option
@click.option(
    "--format",
    "form",
    type=click.Choice(list(FORMATS)),
    help="Format of the labels; told by itself otherwise.",
)
@click.option("--split", default="80,20,0", show_default=True, help="Ratio of training, validation and test.")
@click.option("--seed", default=0, show_default=True, type=int, help="Seed of the split.")
@click.option(
    "--skip-faulty", is_flag=True, help="Leave out entries that are wrong instead of refusing the file."
)
def import_(
    labels: Path,
    pictures: Path | None,
    project: str,
    data: Path,
    form: str | None,
    split: str,
    seed: int,
    skip_faulty: bool,
) -> None:
    """Take pictures and boxes into a project.

    LABELS is a COCO JSON, CSV or JSON Lines file, or a folder or archive of Pascal VOC XML or
    centre-text files. Pictures are copied, and all are split by ratio afterwards, unless the
    archive of a snapshot says each picture's part. Pictures that
    have labels already stay as they are. Where there are no pictures beside the labels, the
    project's own pictures of the same names get them.

    \b
    Example:
      avocet import truth.json --pictures pictures --project belt --data ~/avocet
    """
    ratios = _ratios(split)
    with opened_labels(labels, pictures) as (files, found):
        if found is None:
            _label_what_is_there(files, project, data, form, skip_faulty)
        else:
            _import_with_pictures(files, found, project, data, form, skip_faulty, ratios, seed)


def _import_with_pictures(
    files: LabelFiles,
    pictures: FolderPictures,
    project: str,
    data: Path,
    form: str | None,
    skip_faulty: bool,
    ratios: list[float],
    seed: int,
) -> None:
    chosen = format_called(form) if form else recognise(files)
    located = locate(chosen.read(files, pictures.find), pictures, files.called)
    stop_at_faults(located.problems, skip_faulty)
    if not located.record.pictures:
        raise InputError(f"{files.called}: none of its pictures can be taken over")
    if unusable := unusable_names(located.record, ()):
        raise InputError(f"{files.called}: {unusable[0]}")
    named = read_parts(files)
    folder, sessions = open_data(data)
    with sessions.begin() as session:
        try:
            project_id = project_named(session, project).id
        except NotFound:
            project_id = create_project(session, project).id
    with Bar("Importing") as bar:
        counts = import_located(sessions, folder, project_id, located, bar, named)
    # An archive of a snapshot brings its split along.
    if not named:
        split_pictures(sessions, project_id, ratios, seed)
    with reading(sessions)() as session:
        parts = labelled_by_part(session, project_id)
    click.echo(f"{counts['pictures']} pictures with {counts['boxes']} boxes taken into {project!r}")
    if counts["already_labelled"]:
        click.echo(f"{counts['already_labelled']} pictures had labels already and stay as they are")
    click.echo(
        f"Labelled: {parts['training']} training, {parts['validation']} validation, {parts['test']} test"
    )


def _label_what_is_there(
    files: LabelFiles, project: str, data: Path, form: str | None, skip_faulty: bool
) -> None:
    _, sessions = open_data(data, must_exist=True)
    with reading(sessions)() as session:
        project_id = project_named(session, project).id
        here = ProjectPictures(session, project_id)
        _, record = read_labels(files, here, form)
        matched = pair_pictures(here, record, files.called)
    missing = [f"{files.called}: the project has no picture {name}" for name in matched.missing]
    stop_at_faults(matched.problems + missing, skip_faulty)
    with Bar("Importing") as bar:
        taken = take_over(sessions, project_id, files, bar, form)
    click.echo(f"{taken.pictures} pictures of {project!r} got {taken.boxes} boxes")
    if matched.labelled:
        click.echo(f"{len(matched.labelled)} pictures had labels already and stay as they are")


def _ratios(text: str) -> list[float]:
    try:
        ratios = [float(part) for part in text.replace("/", ",").split(",")]
    except ValueError:
        ratios = []
    if len(ratios) != 3 or min(ratios) < 0 or not sum(ratios) > 0:
        raise InputError(f"--split takes three ratios such as 80,20,0, not {text!r}")
    return ratios
