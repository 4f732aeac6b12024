"""The ``avocet`` command."""

import importlib
import os
import sys

import click

from avocet import __version__
from avocet.core.errors import InputError
from avocet.loading import loading
from avocet.output import prepare_output
from avocet.work.problems import NotFound

THREADS_THAT_WAIT = {"GOMP_SPINCOUNT": "20000"}
"""Threads of torch that wait for one another turn only so often in a circle before they sleep. Left alone they turn
for seconds, and beside other work take from each other the very core that they wait for."""

for _name, _value in THREADS_THAT_WAIT.items():
    # Before torch is loaded, and for the workers, which inherit it.
    os.environ.setdefault(_name, _value)

COMMANDS = {
    "serve": ("avocet.cli.server.serving:serve", "Serve the page and do its long work in the background."),
    "import": ("avocet.cli.importing:import_", "Take pictures and boxes into a project."),
    "export": (
        "avocet.cli.exporting:export",
        "Write a project's labels to a file, or to an archive where the format has many files.",
    ),
    "train": ("avocet.cli.training:train", "Train a detector on a project's labelled pictures."),
    "evaluate": (
        "avocet.cli.measuring:evaluate",
        "Measure a model, or detections of any program, on pictures with known boxes.",
    ),
    "explain": (
        "avocet.cli.explaining:explain",
        "Say how raw outputs became boxes: every candidate, where it came from and what became of it.",
    ),
    "detect": ("avocet.cli.detecting:detect", "Find boxes in pictures, folders of pictures and clips."),
    "convert": (
        "avocet.cli.converting:convert",
        "Write a model for other programs: an ONNX graph, and a script that finds boxes with it.",
    ),
    "camera": (
        "avocet.cli.server.filming:camera",
        "Simulate a camera over the cooling belt: an endless stream of JPEGs over HTTP.",
    ),
    "doctor": (
        "avocet.cli.server.checking:doctor",
        "Look at this machine and a data folder, and say what keeps them from working.",
    ),
}
"""Where each command is, and what it does in a line, so that ``--help`` imports none of them."""


class LazyGroup(click.Group):
    """Imports a command only when it is called: torch takes seconds that ``--help`` need not wait for."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """All commands in the order of the work."""
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """The command of that name."""
        if cmd_name not in COMMANDS:
            return None
        module, name = COMMANDS[cmd_name][0].split(":")
        with loading():
            command: click.Command = getattr(importlib.import_module(module), name)
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """What each command does, without importing it."""
        with formatter.section("Commands"):
            formatter.write_dl([(name, said) for name, (_, said) in COMMANDS.items()])


@click.group(cls=LazyGroup, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, prog_name="avocet")
def avocet() -> None:
    """Annotate bounding boxes, train a detector, measure it and use it."""


def main(arguments: list[str] | None = None) -> None:
    """Run the command; unusable input is one line on standard error and exit code 1.

    ``arguments`` are those of the process unless given.
    """
    prepare_output()
    try:
        avocet(arguments, standalone_mode=False)
    except click.exceptions.Abort:
        click.echo("avocet: stopped", err=True)
        sys.exit(130)
    except click.ClickException as error:
        error.show()
        sys.exit(error.exit_code)
    except (InputError, NotFound) as error:
        click.echo(f"avocet: {' '.join(str(error).split())}", err=True)
        sys.exit(1)
    except MemoryError:
        click.echo("avocet: this needs more memory than there is", err=True)
        sys.exit(1)
    except Exception as error:
        if os.environ.get("AVOCET_TRACE"):
            raise
        said = " ".join(f"{type(error).__name__}: {error}".split())
        click.echo(f"avocet: unexpected error: {said}. With AVOCET_TRACE=1 it says where.", err=True)
        sys.exit(1)


if __name__ == "__main__":
    main()
