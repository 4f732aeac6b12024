"""A model that answers from several machines, for measuring: pictures travel through the cluster's own store."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any

import numpy as np
from numpy.typing import NDArray

from avocet.core.raw.candidates import Candidates
from avocet.detector.model.finder import Finder
from avocet.work.cluster.joining import joined
from avocet.work.cluster.pool import LookerPool
from avocet.work.cluster.shipping import ShippedModel
from avocet.work.models.bundle_set import Bundles


class SpreadFinder:
    """Answers as the model does that it stands for; may be asked by several threads at once.

    Parameters
    ----------
    here : Finder
        The same model on this machine.
    pool : LookerPool
    """

    def __init__(self, here: Finder, pool: LookerPool) -> None:
        self._here, self._pool = here, pool

    @property
    def classes(self) -> list[str]:
        return self._here.classes

    @property
    def about(self) -> dict[str, Any]:
        return self._here.about

    @property
    def at_once(self) -> int:
        """Requests that are worth having under way."""
        return self._pool.at_once

    def candidates(self, pictures: Sequence[NDArray[np.uint8]], minimum_score: float) -> list[Candidates]:
        """As the model's own."""
        found: list[Candidates] = self._pool.ask("candidates", list(pictures), minimum_score)
        return found


@contextmanager
def finding(address: str | None, here: Finder, bundles: Bundles, title: str) -> Iterator[tuple[Finder, int]]:
    """The model, on the machines of a cluster where there is an address; and how many requests to have under way.

    Raises
    ------
    InputError
        If the cluster cannot be joined.
    """
    if not address:
        yield here, 1
        return
    with joined(address) as cluster:
        pool = LookerPool(cluster, ShippedModel.of(bundles), title=title)
        try:
            finder = SpreadFinder(here, pool)
            yield finder, finder.at_once
        finally:
            pool.close()
