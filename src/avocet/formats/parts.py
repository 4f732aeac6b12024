"""Which part of the split each picture is in, beside any annotation format: ``parts.csv``."""

import csv
import io

from avocet.formats.files import PARTS_FILE, LabelFiles

WORDS = ("training", "validation", "test")


def write_parts(parts: dict[str, str]) -> tuple[str, bytes]:
    """The name and content of the file that says each picture's part.

    Examples
    --------
    >>> write_parts({"a.jpg": "training"})
    ('parts.csv', b'picture,part\\na.jpg,training\\n')
    """
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(["picture", "part"])
    writer.writerows(sorted(parts.items()))
    return PARTS_FILE, text.getvalue().encode()


def read_parts(files: LabelFiles) -> dict[str, str]:
    """The part of each picture that such a file names; lines that make no sense are passed over."""
    if not files.has_parts:
        return {}
    rows = csv.reader(io.StringIO(files.text(PARTS_FILE), newline=""))
    try:
        return {row[0]: row[1] for row in rows if len(row) == 2 and row[1] in WORDS}
    except csv.Error:
        return {}
