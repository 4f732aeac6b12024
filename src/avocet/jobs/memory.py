"""How much memory a worker may take, and what it keeps of it."""

import ctypes
import os
import resource

from avocet.work.job_kinds import Lane

TRIM_THRESHOLD, MMAP_THRESHOLD = (-1, 2**30), (-3, 2**25)
"""Names by number (``malloc.h``) and values, in bytes."""


def memory_for(lane: Lane) -> int:
    """Bytes that the worker of a lane may take: most of the machine for a network, a quarter for the rest."""
    there = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
    return int(0.9 * there) if lane in (Lane.COMPUTE, Lane.LOOKS, Lane.AWAY) else max(2 * 1024**3, there // 4)


def limit_memory(bytes_at_most: int) -> None:
    """Let this process get a `MemoryError` in time, rather than be killed for taking all there is."""
    resource.setrlimit(resource.RLIMIT_DATA, (bytes_at_most, bytes_at_most))


def ceiling() -> str:
    """The limit in words, where there is one."""
    most = resource.getrlimit(resource.RLIMIT_DATA)[0]
    return "" if most == resource.RLIM_INFINITY else f" ({most / 1024**3:.1f} GB)"


def keep_memory() -> bool:
    """Keep memory that was given back, where glibc is the allocator; whether it does.

    Every step of a training asks for the same memory. Given back to the system in between, it would be cleared and
    mapped anew each time, which is a tenth of a step.
    """
    try:
        mallopt = ctypes.CDLL(None).mallopt
    except AttributeError:
        return False
    return all(mallopt(*each) == 1 for each in (TRIM_THRESHOLD, MMAP_THRESHOLD))
