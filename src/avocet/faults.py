"""What is wrong with a value that came from outside, and nothing of it held any longer."""

from pydantic import ValidationError
from pydantic_core import ErrorDetails


def first_fault(error: ValidationError) -> ErrorDetails:
    """The first thing that is wrong, and the last that is asked of the error.

    pydantic keeps the exceptions of validators where Python's search for rubbish does not see them, and their
    tracebacks lead to all who called, with whatever these hold: each refused request would stay for good.

    Examples
    --------
    >>> from pydantic import TypeAdapter
    >>> try:
    ...     TypeAdapter(list[int]).validate_python([1, "loaf"])
    ... except ValidationError as error:
    ...     first_fault(error)["loc"]
    (1,)
    """
    faults = error.errors()
    for each in faults:
        cause = each.get("ctx", {}).get("error")
        if isinstance(cause, BaseException):
            cause.__traceback__ = None
    return faults[0]
