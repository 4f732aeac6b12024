"""What can go wrong besides unusable input."""

from typing import TYPE_CHECKING, Any, TypeVar

if TYPE_CHECKING:
    # Every command may meet these problems, also those that need no database.
    from sqlalchemy.orm import Session

T = TypeVar("T")


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


def by_number(session: "Session", table: type[T], number: int, called: str) -> T:
    """The record of that number, or `NotFound` with what it is called."""
    found = session.get(table, number)
    if found is None:
        raise NotFound(f"there is no {called} {number}")
    return found
