"""What can go wrong besides unusable input."""

from typing import Any


class NotFound(LookupError):
    """There is no such thing; the message names it."""


class Conflict(Exception):
    """Someone else changed it meanwhile.

    Attributes
    ----------
    current : dict
        How it stands now.
    """

    def __init__(self, message: str, current: dict[str, Any] | None = None) -> None:
        super().__init__(message)
        self.current = current or {}
