"""JSON that came from elsewhere."""

import json
from typing import Any

from avocet.core.errors import InputError


def parse_json(content: bytes, called: str, kind: str) -> Any:
    """Parse JSON, whatever it may hold.

    Parameters
    ----------
    content : bytes
    called : str
        The file's name, for messages.
    kind : str
        What it ought to be, such as 'a COCO file'.

    Raises
    ------
    InputError
        If it is not JSON, not text, nested too deeply, or has a number of thousands of digits.

    Examples
    --------
    >>> parse_json(b'{"images": []}', "truth.json", "a COCO file")
    {'images': []}
    """
    try:
        return json.loads(content)
    except UnicodeDecodeError:
        raise InputError(f"{called} is not JSON: it is not text in UTF-8") from None
    except json.JSONDecodeError as error:
        raise InputError(
            f"{called} is not JSON: {error.msg} at line {error.lineno}, column {error.colno}"
        ) from None
    except ValueError as error:
        raise InputError(f"{called} is not {kind}: {error}") from None
    except RecursionError:
        raise InputError(f"{called} is not {kind}: it is nested too deeply") from None
