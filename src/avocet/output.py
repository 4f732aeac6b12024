"""What every process of ours does with its output before it says anything."""

import io
import logging
import sys


def prepare_output() -> None:
    """Let names from elsewhere be written that a terminal's encoding cannot hold, and say in the log who speaks.

    Examples
    --------
    >>> prepare_output()
    """
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")
    logging.basicConfig(level=logging.WARNING, format="%(levelname)s %(name)s: %(message)s")
