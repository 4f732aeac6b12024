"""One thing done to many items, on all cores."""

import os
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

from avocet.core.errors import InputError

T = TypeVar("T")
R = TypeVar("R")


def on_all_cores(does: Callable[[T], R], items: Sequence[T]) -> list[R | InputError]:
    """What comes of each item, in order, or why nothing does.

    Threads suffice where most of the time goes into decoding or hashing, which let others run; each
    has its share of the items, as handing them over one by one would cost as much as the small ones.
    """

    def tried(item: T) -> R | InputError:
        try:
            return does(item)
        except InputError as error:
            return error

    cores = max(1, min(os.cpu_count() or 1, len(items)))
    shares = [items[core::cores] for core in range(cores)]
    with ThreadPoolExecutor(cores) as pool:
        done = list(pool.map(lambda share: [tried(each) for each in share], shares))
    return [done[place % cores][place // cores] for place in range(len(items))]
