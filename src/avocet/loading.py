"""Importing much at once, without looking for rubbish all the while."""

import gc
import sys
from collections.abc import Iterator
from contextlib import contextmanager

USUAL = gc.get_threshold()
SELDOM = 20_000
"""New objects between two searches while modules are imported. Usual are 700, of which a start makes a few hundred
times as many: searching would take a seventh of its time."""


@contextmanager
def loading() -> Iterator[None]:
    """Import what a command or a kind of work needs.

    What was there by its end stays, as modules do: later searches no longer go through it, which would stop every
    thread for a tenth of a second and more each time.

    Examples
    --------
    >>> with loading():
    ...     import colorsys
    >>> colorsys.rgb_to_hsv(0, 0, 1)[2]
    1
    """
    known = len(sys.modules)
    gc.set_threshold(SELDOM, *USUAL[1:])
    try:
        yield
    finally:
        gc.set_threshold(*USUAL)
        if len(sys.modules) > known:
            gc.freeze()
