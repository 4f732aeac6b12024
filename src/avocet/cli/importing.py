"""``avocet import``."""

from pathlib import Path

import click

from avocet.cli.common import Bar, data_option, open_data, stop_at_faults
from avocet.core.errors import InputError
from avocet.formats.coco import read_coco
from avocet.work.exchange import import_located, locate
from avocet.work.problems import NotFound
from avocet.work.projects import create_project, project_named
from avocet.work.splits import split_pictures


@click.command("import")
@click.argument("truth", type=click.Path(path_type=Path))
@click.option(
    "--images", type=click.Path(path_type=Path), required=True, help="Folder with the pictures it names."
)
@click.option("--project", required=True, help="Project to add them to; made if there is none of that name.")
@data_option
@click.option("--split", default="80,20,0", show_default=True, help="Ratio of training, validation and test.")
@click.option("--seed", default=0, show_default=True, type=int, help="Seed of the split.")
@click.option(
    "--skip-faulty", is_flag=True, help="Leave out entries that are wrong instead of refusing the file."
)
def import_(
    truth: Path, images: Path, project: str, data: Path, split: str, seed: int, skip_faulty: bool
) -> None:
    """Take pictures and boxes of a COCO JSON file into a project.

    Pictures are copied. Pictures that have labels already stay as they are. Afterwards all
    pictures of the project are split by ratio.

    \b
    Example:
      avocet import truth.json --images pictures --project belt --data ~/avocet
    """
    ratios = _ratios(split)
    located = locate(read_coco(truth), images, truth.name)
    stop_at_faults(located.problems, skip_faulty)
    if not located.record.pictures:
        raise InputError(f"{truth.name}: none of its pictures can be taken over")
    folder, sessions = open_data(data)
    with sessions.begin() as session:
        try:
            project_id = project_named(session, project).id
        except NotFound:
            project_id = create_project(session, project).id
    with Bar("Importing") as bar:
        counts = import_located(sessions, folder, project_id, located, bar)
    with sessions.begin() as session:
        parts = split_pictures(session, project_id, ratios, seed)
    click.echo(f"{counts['pictures']} pictures with {counts['boxes']} boxes taken into {project!r}")
    if counts["already_labelled"]:
        click.echo(f"{counts['already_labelled']} pictures had labels already and stay as they are")
    click.echo(
        f"Labelled: {parts['training']} training, {parts['validation']} validation, {parts['test']} test"
    )


def _ratios(text: str) -> list[float]:
    try:
        ratios = [float(part) for part in text.replace("/", ",").split(",")]
    except ValueError:
        ratios = []
    if len(ratios) != 3 or min(ratios) < 0 or not sum(ratios) > 0:
        raise InputError(f"--split takes three ratios such as 80,20,0, not {text!r}")
    return ratios
