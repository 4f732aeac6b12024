"""What several commands share: progress bars, faults of annotation files."""

from collections.abc import Sequence
from typing import Any

import click
from tqdm import tqdm

from avocet.core.errors import InputError
from avocet.work.progress import Reporter, Silent


class Bar:
    """A reporter that draws a progress bar on standard error, and tells another one too."""

    def __init__(self, title: str, also: Reporter | None = None) -> None:
        self._also: Reporter = also or Silent()
        self._bar: Any = tqdm(desc=title, unit="", dynamic_ncols=True, leave=True, mininterval=0.3)

    def progress(self, done: int, total: int, message: str = "") -> None:
        """Move the bar."""
        self._bar.total = total
        self._bar.n = done
        if message:
            self._bar.set_postfix_str(message, refresh=False)
        self._bar.update(0)
        self._also.progress(done, total, message)

    def should_stop(self) -> bool:
        """Ctrl-C stops by itself; the other reporter may know of another wish."""
        return self._also.should_stop()

    def __enter__(self) -> "Bar":
        return self

    def __exit__(self, *_: object) -> None:
        self._bar.refresh()
        self._bar.close()


def stop_at_faults(problems: list[str], skip: bool) -> None:
    """Show what is wrong with an annotation file; raises `InputError` unless it may be left out."""
    for each in problems[:20]:
        click.echo(f"avocet: {each}", err=True)
    if len(problems) > 20:
        click.echo(f"avocet: and {len(problems) - 20} more", err=True)
    if problems and not skip:
        count = f"{len(problems)} fault{'s' if len(problems) > 1 else ''}"
        raise InputError(f"{count} found and nothing done; --skip-faulty leaves out what is wrong")


def number(value: float | None) -> str:
    """A figure for a table."""
    return "     –" if value is None else f"{value:6.3f}"


def named_pairs(given: Sequence[str], option: str, built_like: str) -> dict[str, str]:
    """What an option that may come several times says of each name. Raises `InputError`."""
    pairs = {}
    for text in given:
        name, sign, meant = text.partition("=")
        if not sign or not name.strip():
            raise InputError(f"{option} {text!r} is not built like {built_like}")
        pairs[name.strip()] = meant.strip()
    return pairs
