"""The processes that ``avocet serve`` starts; not commands for people."""

from pathlib import Path

import click

from avocet.cli.common import data_option
from avocet.loading import loading
from avocet.store.folder import DataFolder
from avocet.work.job_kinds import Lane


@click.command(hidden=True)
@data_option
@click.option("--lane", type=click.Choice([lane.value for lane in Lane]), required=True)
@click.option("--parent", type=int, required=True, help="Process to end with.")
def worker(data: Path, lane: str, parent: int) -> None:
    """Do the long work of one lane; started by serve."""
    with loading():
        from avocet.jobs.worker import work

    work(DataFolder(data), Lane(lane), parent)


@click.command(hidden=True)
@click.option("--parent", type=int, required=True, help="Process to end with.")
def answerer(parent: int) -> None:
    """Answer other programs; started by serve."""
    # Not with the workers, which need little of what this needs.
    with loading():
        from avocet.jobs.answerer import answer

    answer(parent)
