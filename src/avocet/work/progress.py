"""How long work tells how far it is, and learns that it should stop."""

from typing import Protocol


class Stopped(Exception):
    """A person asked the work to stop."""


class Reporter(Protocol):
    """Told by long work how far it is."""

    def progress(self, done: int, total: int, message: str = "") -> None:
        """So many of so many are done."""

    def should_stop(self) -> bool:
        """Whether a person asked to stop."""


class Silent:
    """A reporter that nobody listens to."""

    def progress(self, done: int, total: int, message: str = "") -> None:
        """Say nothing."""

    def should_stop(self) -> bool:
        """Never asked to stop."""
        return False


SILENT = Silent()
