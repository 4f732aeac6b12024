"""Text from outside as it can be kept, sent and shown: the one gate that names go through."""

from typing import Any

from avocet.core.errors import InputError

DIRECTION = frozenset("\u061c\u200e\u200f\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069")
"""Marks that turn the direction of the text around them, so that a name reads as another."""


def is_readable(text: str) -> bool:
    """Whether text has neither control nor direction marks, nor halves of letters that no text can hold.

    Examples
    --------
    >>> is_readable("brötchen.jpg"), is_readable("a\\tb"), is_readable("\\ud800"), is_readable("a\\u202eb")
    (True, False, False, False)
    """
    return (text.isascii() and text.isprintable()) or not any(map(_is_strange, text))


def readable(text: str) -> str:
    r"""The text with what `is_readable` forbids written as escapes, so that it can be told apart all the same.

    Bytes of a file name that are no UTF-8, which Python carries as halves of letters, become ``\xff``.

    Examples
    --------
    >>> readable("belt\udcff.jpg"), readable("a\nb"), readable("brötchen")
    ('belt\\xff.jpg', 'a\\nb', 'brötchen')
    """
    if is_readable(text):
        return text
    return "".join(_escaped(letter) if _is_strange(letter) else letter for letter in text)


def readable_lines(text: str) -> str:
    """As `readable`, but line breaks stay: for messages and notes."""
    return "\n".join(map(readable, text.split("\n")))


def so_many(count: int, one: str, many: str = "") -> str:
    """So many of something, in words.

    Examples
    --------
    >>> so_many(1, "picture"), so_many(12_000, "picture"), so_many(0, "box", "boxes")
    ('1 picture', '12,000 pictures', '0 boxes')
    """
    return f"{count:,} {one if count == 1 else many or one + 's'}"


def signed(value: float) -> str:
    """A change with three digits and its sign, a true minus among them.

    Examples
    --------
    >>> signed(0.0123), signed(-0.04)
    ('+0.012', '−0.040')
    """
    return f"{value:+.3f}".replace("-", "−")


def usable_name(given: str, called: str, most: int = 100) -> str:
    """A name that a person gives to something, without blanks around it.

    Raises
    ------
    InputError
        If it is empty, too long or has characters that cannot be shown; ``called`` is what it is, in words.

    Examples
    --------
    >>> usable_name(" Belt ", "a project's name")
    'Belt'
    """
    name = given.strip()
    if not name or len(name) > most:
        raise InputError(f"{called} has 1 to {most} characters, not {len(name)}")
    if not is_readable(name):
        raise InputError(f"{called} has no characters that cannot be shown, unlike {readable(name)!r}")
    return name


def all_readable(value: Any) -> Any:
    """A value for JSON with every text in it made readable.

    Examples
    --------
    >>> all_readable({"files": [{"name": "a\\udcff"}], "count": 1})
    {'files': [{'name': 'a\\\\xff'}], 'count': 1}
    """
    if isinstance(value, str):
        return readable_lines(value)
    if isinstance(value, dict):
        return {all_readable(key): all_readable(inner) for key, inner in value.items()}
    if isinstance(value, list | tuple):
        return [all_readable(inner) for inner in value]
    return value


def _is_strange(letter: str) -> bool:
    code = ord(letter)
    return code < 32 or 127 <= code < 160 or 0xD800 <= code < 0xE000 or letter in DIRECTION


def _escaped(letter: str) -> str:
    code = ord(letter)
    if 0xDC80 <= code <= 0xDCFF:
        return f"\\x{code - 0xDC00:02x}"
    return letter.encode("unicode_escape").decode()
