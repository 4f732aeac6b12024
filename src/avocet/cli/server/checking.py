"""``avocet doctor``."""

import sys
from collections.abc import Iterator
from pathlib import Path

import click

from avocet.store.folder import DataFolder
from avocet.web.app import PAGE
from avocet.work.health.data import look_at_data
from avocet.work.health.finding import Fitness, HealthFinding
from avocet.work.health.machine import look_at_machine

MARKS = {Fitness.WELL: " ", Fitness.NOTE: "·", Fitness.WRONG: "✗"}


@click.command()
@click.option(
    "--data",
    type=click.Path(path_type=Path, file_okay=False),
    help="Folder with all projects; without it only the machine is looked at.",
)
def doctor(data: Path | None) -> None:
    """Look at this machine and a data folder, and say what keeps them from working.

    Nothing is changed. It ends with 1 where something is wrong.

    \b
    Example:
      avocet doctor --data ~/avocet
    """
    wrong = 0
    for found in _all(data):
        wrong += found.fitness == Fitness.WRONG
        click.echo(f"{MARKS[found.fitness]} {found.subject:14} {found.said}")
    if wrong:
        click.echo(f"\n{wrong} thing{'s' if wrong > 1 else ''} marked ✗ will not work as it is.")
        sys.exit(1)
    click.echo("\nNothing keeps it from working.")


def _all(data: Path | None) -> Iterator[HealthFinding]:
    yield from look_at_machine()
    if (PAGE / "index.html").is_file():
        yield HealthFinding("Page", "built")
    else:
        yield HealthFinding("Page", "not built; `make setup` builds it", Fitness.WRONG)
    if data is not None:
        yield from look_at_data(DataFolder(data))
