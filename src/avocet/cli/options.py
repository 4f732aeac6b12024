"""Options that several commands have, apart from what those need: `serve` starts others before it loads all that it does."""

from pathlib import Path

import click

data_option = click.option(
    "--data",
    type=click.Path(path_type=Path, file_okay=False),
    required=True,
    help="Folder with all projects.",
)

cluster_option = click.option(
    "--cluster",
    metavar="ADDRESS",
    help="Work on the machines of a Ray cluster, HOST:PORT; local starts one on this machine.",
)

white_option = click.option(
    "--white",
    type=click.FloatRange(min=0, min_open=True),
    show_default="what their files, the model or all of them say",
    help="White in pictures of more than 8 bits, such as 4095 for 12.",
)
