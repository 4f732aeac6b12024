"""Calls of addresses, counted by day, key and outcome, with how long they took."""

import datetime as dt
import threading
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from avocet.store.address_tables import Address, AddressCalls
from avocet.store.database import Sessions

FIRST, RATIO, BINS = 1.0, 1.15, 90
"""Latencies in bins: the first ends at a millisecond, each is 15 % wider; the last one begins at four minutes."""

NO_KEY = 0

ANSWERED = "answered"
OUTCOMES = (ANSWERED, "no picture", "too large", "too many", "no key", "failed")


def bin_of(milliseconds: float) -> int:
    """The bin of a latency.

    Examples
    --------
    >>> bin_of(0.5), bin_of(1.1), bin_of(1e9)
    (0, 1, 89)
    """
    if milliseconds <= FIRST:
        return 0
    return min(BINS - 1, 1 + int(np.log(milliseconds / FIRST) / np.log(RATIO)))


def quantile_of(latencies: Sequence[int], share: float) -> float | None:
    """A quantile in milliseconds, to within a bin's width; None without calls.

    Examples
    --------
    >>> counts = [0] * BINS
    >>> counts[bin_of(20)] = 10
    >>> 17 < quantile_of(counts, 0.5) < 23
    True
    """
    counts = np.asarray(latencies, dtype=np.float64)
    if not counts.sum():
        return None
    place = int(np.searchsorted(np.cumsum(counts), share * counts.sum()))
    # The middle of the bin, in ratios.
    return float(FIRST * RATIO ** (place - 0.5)) if place else FIRST


@dataclass
class _Count:
    calls: int = 0
    pictures: int = 0
    latencies: list[int] = field(default_factory=lambda: [0] * BINS)


class CallCounter:
    """Counts calls in memory and writes them down now and then.

    Parameters
    ----------
    sessions : Sessions
    """

    def __init__(self, sessions: Sessions) -> None:
        self._sessions = sessions
        self._counts: dict[tuple[int, int, str, str], _Count] = defaultdict(_Count)
        self._lock = threading.Lock()

    def count(self, address_id: int, key_id: int, outcome: str, pictures: int, milliseconds: float) -> None:
        """Count a call."""
        day = dt.datetime.now(dt.UTC).date().isoformat()
        with self._lock:
            held = self._counts[(address_id, key_id, day, outcome)]
            held.calls += 1
            held.pictures += pictures
            held.latencies[bin_of(milliseconds)] += 1

    def write(self) -> None:
        """Write down what was counted since the last time; it is kept where the database refuses."""
        with self._lock:
            taken, self._counts = self._counts, defaultdict(_Count)
        if not taken:
            return
        try:
            with self._sessions.begin() as session:
                there = set(session.scalars(select(Address.id)))
                for key, held in taken.items():
                    if key[0] in there:
                        _add(session, key, held)
        except Exception:
            with self._lock:
                for key, held in taken.items():
                    kept = self._counts[key]
                    kept.calls += held.calls
                    kept.pictures += held.pictures
                    kept.latencies = [a + b for a, b in zip(kept.latencies, held.latencies, strict=True)]
            raise


def _add(session: Session, key: tuple[int, int, str, str], held: _Count) -> None:
    address_id, key_id, day, outcome = key
    row = session.scalars(
        select(AddressCalls).where(
            AddressCalls.address_id == address_id, AddressCalls.key_id == key_id, AddressCalls.day == day,
            AddressCalls.outcome == outcome,
        )
    ).first()  # fmt: skip
    if row is None:
        row = AddressCalls(
            address_id=address_id,
            key_id=key_id,
            day=day,
            outcome=outcome,
            calls=0,
            pictures=0,
            latencies=[0] * BINS,
        )
        session.add(row)
    row.calls += held.calls
    row.pictures += held.pictures
    row.latencies = [a + b for a, b in zip(row.latencies, held.latencies, strict=True)]


def calls_of(session: Session, address_id: int, days: int = 30) -> list[dict[str, Any]]:
    """Calls of the latest days, oldest first: by outcome, and the quantiles of those that were answered.

    Days without a call are left out.
    """
    since = (dt.datetime.now(dt.UTC).date() - dt.timedelta(days=days - 1)).isoformat()
    rows = session.scalars(
        select(AddressCalls)
        .where(AddressCalls.address_id == address_id, AddressCalls.day >= since)
        .order_by(AddressCalls.day)
    ).all()
    made = []
    for day in sorted({row.day for row in rows}):
        mine = [row for row in rows if row.day == day]
        took = np.sum([row.latencies for row in mine if row.outcome == ANSWERED] or [[0] * BINS], axis=0)
        made.append(
            {
                "day": day,
                "outcomes": {
                    name: sum(row.calls for row in mine if row.outcome == name) for name in OUTCOMES
                },
                "pictures": sum(row.pictures for row in mine),
                "by_key": [
                    {"key_id": key, "calls": sum(row.calls for row in mine if row.key_id == key)}
                    for key in sorted({row.key_id for row in mine})
                ],
                "median": quantile_of(took, 0.5),
                "p95": quantile_of(took, 0.95),
                "p99": quantile_of(took, 0.99),
            }
        )
    return made
