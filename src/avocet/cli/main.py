"""The ``avocet`` command."""

import logging
import sys

import click

from avocet import __version__
from avocet.cli.detecting import detect
from avocet.cli.importing import import_
from avocet.cli.measuring import evaluate
from avocet.cli.serving import serve, worker
from avocet.cli.training import train
from avocet.core.errors import InputError
from avocet.work.problems import NotFound


@click.group(context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, prog_name="avocet")
def avocet() -> None:
    """Annotate bounding boxes, train a detector, measure it and use it."""


for command in (serve, worker, import_, train, evaluate, detect):
    avocet.add_command(command)


def main() -> None:
    """Run the command; unusable input is one line on standard error and exit code 1."""
    logging.basicConfig(level=logging.WARNING, format="%(levelname)s %(name)s: %(message)s")
    try:
        avocet(standalone_mode=False)
    except click.exceptions.Abort:
        click.echo("avocet: stopped", err=True)
        sys.exit(130)
    except click.ClickException as error:
        error.show()
        sys.exit(error.exit_code)
    except (InputError, NotFound) as error:
        click.echo(f"avocet: {' '.join(str(error).split())}", err=True)
        sys.exit(1)


if __name__ == "__main__":
    main()
