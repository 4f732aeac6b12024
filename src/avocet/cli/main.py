"""The ``avocet`` command."""

import importlib
import logging
import sys

import click

from avocet import __version__
from avocet.core.errors import InputError
from avocet.work.problems import NotFound

COMMANDS = {
    "serve": "avocet.cli.serving:serve",
    "import": "avocet.cli.importing:import_",
    "export": "avocet.cli.exporting:export",
    "train": "avocet.cli.training:train",
    "evaluate": "avocet.cli.measuring:evaluate",
    "explain": "avocet.cli.explaining:explain",
    "detect": "avocet.cli.detecting:detect",
    "worker": "avocet.cli.working:worker",
}


class LazyGroup(click.Group):
    """Imports a command only when it is called: torch takes seconds that ``--help`` need not wait for."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """All commands in the order of the work."""
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """The command of that name."""
        if cmd_name not in COMMANDS:
            return None
        module, name = COMMANDS[cmd_name].split(":")
        command: click.Command = getattr(importlib.import_module(module), name)
        return command


@click.group(cls=LazyGroup, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, prog_name="avocet")
def avocet() -> None:
    """Annotate bounding boxes, train a detector, measure it and use it."""


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
