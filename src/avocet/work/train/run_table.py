"""Runs side by side: which settings differ, groups with mean and spread, whether figures compare."""

import statistics
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from avocet.core.errors import InputError
from avocet.detector.training.settings import settings_from
from avocet.store.tables import Run

ALWAYS = ("size", "side")
"""Settings that are shown even where all runs have the same."""


@dataclass(frozen=True)
class Group:
    """Runs with the same value of a setting: how many, mean and sample standard deviation.

    ``spread`` is None for a single run; ``comparable`` says whether all were measured on the
    same validation pictures.
    """

    value: str
    runs: list[int]
    mean_map50: float
    mean_map: float
    spread_map50: float | None
    spread_map: float | None
    comparable: bool


def flat_settings(run: Run) -> dict[str, Any]:
    """A run's settings, one value each, with its snapshot and what it started from."""
    settings = settings_from(run.settings).as_record()
    settings |= settings.pop("augmentation")
    settings["anchors"] = "by hand" if settings["anchors"] else "clustered"
    settings["extended"] = sum(settings["extended"])
    settings["starting_weights"] = run.facts.get("start") or "none"
    settings["snapshot"] = run.snapshot.name or run.snapshot.content_hash[:12]
    return settings


def differing(runs: Sequence[Run]) -> list[str]:
    """Names of the settings that are not the same in all runs, and those always shown."""
    tables = [flat_settings(run) for run in runs]
    names = list(tables[0]) if tables else []
    return [name for name in names if name in ALWAYS or len({str(each[name]) for each in tables}) > 1]


def group_runs(runs: Sequence[Run], setting: str) -> list[Group]:
    """Runs with a result, grouped by the value of a setting, the best group first.

    Raises
    ------
    InputError
        If there is no such setting.
    """
    groups: dict[str, list[Run]] = defaultdict(list)
    for run in runs:
        values = flat_settings(run)
        if setting not in values:
            raise InputError(f"there is no setting {setting!r} to group by")
        if run.best_map is not None:
            groups[str(values[setting])].append(run)
    made = [_group(value, members) for value, members in groups.items()]
    return sorted(made, key=lambda group: -group.mean_map)


def _group(value: str, runs: list[Run]) -> Group:
    map50, overall = [run.best_map50 or 0.0 for run in runs], [run.best_map or 0.0 for run in runs]
    several = len(runs) > 1
    return Group(
        value=value,
        runs=[run.id for run in runs],
        mean_map50=statistics.fmean(map50),
        mean_map=statistics.fmean(overall),
        spread_map50=statistics.stdev(map50) if several else None,
        spread_map=statistics.stdev(overall) if several else None,
        comparable=len({run.held_out for run in runs}) == 1,
    )
