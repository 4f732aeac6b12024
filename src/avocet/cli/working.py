"""The worker that ``avocet serve`` starts; not a command for people."""

from pathlib import Path

import click

from avocet.cli.common import data_option
from avocet.jobs.worker import work
from avocet.store.folder import DataFolder
from avocet.work.job_kinds import Lane


@click.command(hidden=True)
@data_option
@click.option("--lane", type=click.Choice([lane.value for lane in Lane]), required=True)
@click.option("--parent", type=int, required=True, help="Process to end with.")
def worker(data: Path, lane: str, parent: int) -> None:
    """Do the long work of one lane; started by serve."""
    work(DataFolder(data), Lane(lane), parent)
