"""``avocet export``."""

import zipfile
from pathlib import Path

import click

from avocet.cli.data import open_data
from avocet.cli.options import data_option
from avocet.core.errors import InputError
from avocet.files import replacing
from avocet.formats.kinds import FORMATS, format_called, held_by, what_is_lost
from avocet.work.exchange.written import export_record
from avocet.work.project.projects import project_named


@click.command("export")
@click.argument("output", type=click.Path(path_type=Path))
@click.option("--project", required=True, help="Project whose labels to write.")
@data_option
@click.option(
    "--format",
    "form",
    type=click.Choice(list(FORMATS)),
    default="coco",
    show_default=True,
    help="Format to write.",
)
def export(output: Path, project: str, data: Path, form: str) -> None:
    """Write a project's labels to a file, or to an archive where the format has many files.

    OUTPUT is replaced as a whole or not at all. What the format cannot hold is said.

    \b
    Example:
      avocet export labels.zip --format voc --project belt --data ~/avocet
    """
    _, sessions = open_data(data, must_exist=True)
    with sessions() as session:
        record = export_record(session, project_named(session, project).id)
    if not record.pictures:
        raise InputError(f"{project!r} has no labelled picture")
    chosen = format_called(form)
    wanted = (".zip",) if chosen.many_files else (*chosen.suffixes, ".zip")
    if output.suffix.lower() not in wanted:
        raise InputError(
            f"{chosen.name} is written to a file that ends with {' or '.join(wanted)}, not {output.name}"
        )
    for each in what_is_lost(held_by(record), chosen):
        click.echo(f"avocet: {chosen.name} does not hold all: {each}", err=True)
    with replacing(output) as temporary:
        if output.suffix.lower() == ".zip":
            with zipfile.ZipFile(temporary, "w", zipfile.ZIP_DEFLATED) as opened:
                for name, content in chosen.write(record):
                    opened.writestr(name, content)
        else:
            for _, content in chosen.write(record):
                temporary.write_bytes(content)
    boxes = sum(len(picture.boxes) for picture in record.pictures)
    click.echo(f"{len(record.pictures)} pictures with {boxes} boxes written to {output}")
