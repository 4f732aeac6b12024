"""Processes that begin with their modules loaded, as they are forked from one that has loaded them.

Loading takes each more than a second of the processor. Once for all, a start takes a fraction of that, and what is loaded is
in memory once. The process forked from has no second thread and no open file of ours, so that nothing is cut in two.
"""

import logging
import multiprocessing
import os
import signal
import tempfile
import threading
from importlib import import_module
from multiprocessing import forkserver
from multiprocessing.process import BaseProcess
from pathlib import Path
from typing import Any

from avocet.core.errors import InputError
from avocet.loading import loading
from avocet.output import prepare_output

_FORKING = multiprocessing.get_context("forkserver")
_FORKING.set_forkserver_preload([__name__, "avocet.jobs.loaded"])

_LOADED_BY = os.getpid()
"""In a process that was forked: the one that had loaded this module for it.

Who its parent is, asked when it begins, would not tell: the one it was forked from can be gone by then.
"""


def get_ready() -> None:
    """Start the process from which all others are forked; it loads beside whatever is done next.

    Raises
    ------
    InputError
        If it cannot be spoken to through the folder for temporary files: the name of a socket has no more than a hundred
        letters.
    """
    try:
        forkserver.ensure_running()
    except OSError as error:
        place = tempfile.gettempdir()
        raise InputError(
            f"{place} cannot hold temporary files: {error}. Set TMPDIR to another folder."
        ) from None


def start_process(name: str, does: str, arguments: tuple[Any, ...]) -> BaseProcess:
    """Start a process, which ends with this one.

    Parameters
    ----------
    name : str
        What the system's lists call it, behind ``avocet``.
    does : str
        ``module:function`` that it does; the module is imported there.
    arguments : tuple
        What the function is given.

    Raises
    ------
    OSError, EOFError
        The system has no room for another.
    """
    process = _FORKING.Process(target=_begin, args=(name, does, arguments), name=name)
    process.start()
    return process


def _begin(name: str, does: str, arguments: tuple[Any, ...]) -> None:
    _call_it(f"avocet {name}")
    prepare_output()
    # Who ends the server at its terminal sends this to all at once, and the server then ends the others in its own way.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    threading.Thread(target=_end_with_server, name="parent", daemon=True).start()
    module, function = does.split(":")
    with loading():
        act = getattr(import_module(module), function)
    act(*arguments)


def _end_with_server() -> None:
    """End this process once the server is gone, or the one that both were waiting on."""
    server = multiprocessing.parent_process()
    assert server is not None
    while server.is_alive() and os.getppid() == _LOADED_BY:
        server.join(1)
    os.kill(os.getpid(), signal.SIGTERM)


def _call_it(name: str) -> None:
    """Name this process in the system's lists, where it is one that lets itself be named."""
    try:
        Path("/proc/self/comm").write_text(name)
    except OSError:
        logging.getLogger(__name__).debug("processes have no names here")
