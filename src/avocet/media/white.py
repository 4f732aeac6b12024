"""The one white of files that belong together: what is white in those of more than 8 bits.

What the files say, else the least usual white that all of those fit into which say nothing; a person may choose another
for all of them.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from avocet.core.errors import InputError
from avocet.cores import on_all_cores
from avocet.media.deep import DEEP_SUFFIXES, LARGEST_WHITE, Depth, white_for, white_of_set
from avocet.media.pictures import picture_depth

MOST_MEASURED = 64
"""Files whose values are looked at to find the white of all, spread over them."""


@dataclass(frozen=True)
class FileWhites:
    """How files are read that belong together.

    Attributes
    ----------
    whites : dict of int to float
        By place, of the pictures of more than 8 bits.
    declared : int
        How many of them say themselves what is white.
    of_set : float, optional
        That of those that do not.
    """

    whites: dict[int, float]
    declared: int
    of_set: float | None


def whites_of_files(
    files: Sequence[tuple[Path, str]],
    chosen: float | None = None,
    usual: float | None = None,
    known: Mapping[int, float] | None = None,
) -> FileWhites:
    """Settle what is white in each picture of more than 8 bits among files.

    What cannot be read is left out: it is told of when its turn comes.

    Parameters
    ----------
    files : sequence of (Path, str)
        And what to call them.
    chosen : float, optional
        By a person, for all.
    usual : float, optional
        Of those whose files say nothing; by default what all of them fit into.
    known : mapping of int to float, optional
        By place, what was settled before and stays.

    Raises
    ------
    InputError
        If what was chosen cannot be white.
    """
    check_white(chosen)
    known = known or {}
    maybe = [n for n, (path, _) in enumerate(files) if path.suffix.lower() in DEEP_SUFFIXES]
    found = on_all_cores(lambda n: picture_depth(*files[n], measured=False), maybe)
    deep = {n: each for n, each in zip(maybe, found, strict=True) if isinstance(each, Depth)}
    unsaid = [n for n, each in deep.items() if each.declared is None]
    of_set = next((known[n] for n in unsaid if n in known), usual)
    if of_set is None and chosen is None:
        step = max(1, len(unsaid) // MOST_MEASURED)
        measured = on_all_cores(lambda n: picture_depth(*files[n]), unsaid[::step])
        of_set = white_of_set([each for each in measured if isinstance(each, Depth)])
    whites = {
        n: known[n] if chosen is None and n in known else white_for(each, chosen, of_set)
        for n, each in deep.items()
        if (chosen, each.declared, of_set) != (None, None, None)
    }
    return FileWhites(whites, len(deep) - len(unsaid), of_set)


def check_white(white: float | None) -> None:
    """Raise `InputError` where a value cannot be white."""
    if white is not None and not 0 < white <= LARGEST_WHITE:
        raise InputError(f"white must be above 0 and at most {LARGEST_WHITE:,.0f}, not {white:g}")
