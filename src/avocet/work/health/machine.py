"""The machine: versions, cores, memory, where networks are computed, and by what."""

import os
import platform
import sqlite3
from collections.abc import Iterator
from importlib.metadata import PackageNotFoundError, version

import psutil

from avocet import __version__
from avocet.core.errors import InputError
from avocet.work.health.finding import Fitness, HealthFinding

PACKAGES = ("numpy", "scipy", "torch", "onnxruntime", "onnx", "av", "pillow", "sqlalchemy", "flask")
"""Whose versions tell most where something goes wrong."""

LEAST_MEMORY = 2_000_000_000
"""Bytes: a training of the smallest size with its pictures takes about half of it."""

BUSY = 1.0
"""Runnable processes for each core, from which others are at work here as well."""


def look_at_machine() -> Iterator[HealthFinding]:
    """Everything about the machine that the work depends on, most general first; takes some seconds."""
    yield HealthFinding("Avocet", f"{__version__}, Python {platform.python_version()}, {platform.platform()}")
    yield _packages()
    yield HealthFinding("SQLite", sqlite3.sqlite_version)
    yield _cores()
    yield _memory()
    yield from _computing()
    yield _codecs()


def size_of(count: float) -> str:
    """Bytes as people read them.

    Examples
    --------
    >>> size_of(512), size_of(3_400_000), size_of(25_300_000_000)
    ('512 B', '3.4 MB', '25 GB')
    """
    for unit in ("B", "kB", "MB", "GB"):
        if count < 1000:
            return f"{count:.0f} {unit}" if count >= 10 or unit == "B" else f"{count:.1f} {unit}"
        count /= 1000
    return f"{count:.1f} TB"


def _packages() -> HealthFinding:
    found, missing = [], []
    for name in PACKAGES:
        try:
            found.append(f"{name} {version(name)}")
        except PackageNotFoundError:
            missing.append(name)
    if missing:
        said = f"{', '.join(missing)} missing; install Avocet again"
        return HealthFinding("Packages", said, Fitness.WRONG)
    return HealthFinding("Packages", ", ".join(found))


def _cores() -> HealthFinding:
    threads = psutil.cpu_count() or 1
    real = psutil.cpu_count(logical=False) or threads
    usable = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else threads
    said = f"{real} cores, {threads} threads"
    if usable < threads:
        said += f", of which this process may use {usable}"
    load = os.getloadavg()[0] / usable
    if load > BUSY:
        return HealthFinding(
            "Processor", f"{said}; others are at work too, {load:.1f} processes for each thread", Fitness.NOTE
        )
    return HealthFinding("Processor", said)


def _memory() -> HealthFinding:
    memory = psutil.virtual_memory()
    said = f"{size_of(memory.available)} free of {size_of(memory.total)}"
    if memory.available < LEAST_MEMORY:
        return HealthFinding("Memory", f"{said}; a training may need {size_of(LEAST_MEMORY)}", Fitness.NOTE)
    return HealthFinding("Memory", said)


def _computing() -> Iterator[HealthFinding]:
    try:
        # Only here: torch takes seconds to load.
        from avocet.detector.model.device import bfloat16_pays, chosen_device

        device = chosen_device()
    except (InputError, ImportError, OSError) as error:
        yield HealthFinding("Device", str(error), Fitness.WRONG)
        return
    import torch

    name = torch.cuda.get_device_name(device) if device.type == "cuda" else platform.processor()
    by_hand = " (AVOCET_DEVICE says so)" if os.environ.get("AVOCET_DEVICE", "").strip() else ""
    yield HealthFinding("Device", f"{device.type}{f', {name}' if name else ''}{by_hand}")
    pays = bfloat16_pays(device)
    said = "bfloat16 where it is safe: it is faster here" if pays else "float32: bfloat16 is not faster here"
    yield HealthFinding("Number format", said)
    from avocet.detector.engines.opening import engine_taken

    engine, why = engine_taken()
    yield HealthFinding(
        "Engine", f"{engine} finds boxes, as {why}; torch trains with {torch.get_num_threads()} threads"
    )


def _codecs() -> HealthFinding:
    import av

    wanted = ("h264", "hevc", "vp9", "av1", "mpeg4", "mjpeg")
    there = [name for name in wanted if name in av.codecs_available]
    missing = [name for name in wanted if name not in there]
    said = f"{', '.join(there)} can be read"
    if missing:
        return HealthFinding("Clips", f"{said}; not {', '.join(missing)}", Fitness.NOTE)
    return HealthFinding("Clips", said)
