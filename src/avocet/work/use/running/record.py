"""A detection run's own record: JSON Lines, a picture or frame a line, written as they come."""

import json
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import IO, Any

from avocet.core.errors import InputError
from avocet.files import write_text
from avocet.work.use.running.looking import Row
from avocet.work.use.running.order import DetectionOrder

RECORD, ORDER = "detections.jsonl", "order.json"

LONGEST_LINE = 10_000_000
"""Bytes: a thousand boxes take a hundredth of it."""


class RunRecord:
    """The record of a run that is under way.

    Parameters
    ----------
    out : Path
        The run's folder.
    order : DetectionOrder
    about : dict
        The model.
    go_on : bool
        Keep what is recorded already, but for a last line that was not written to its end.

    Raises
    ------
    InputError
        If the folder cannot be written, or what is recorded was found in another way.
    """

    def __init__(self, out: Path, order: DetectionOrder, about: dict[str, Any], go_on: bool) -> None:
        self.path = out / RECORD
        said = {"order": order.model_dump(mode="json"), "model": about}
        # Through JSON, so that it compares with what is read.
        said = json.loads(json.dumps(said))
        self.done: Counter[str] = Counter()
        try:
            out.mkdir(parents=True, exist_ok=True)
            if go_on and self.path.is_file():
                self._keep(out, said)
            else:
                self.path.unlink(missing_ok=True)
            write_text(out / ORDER, json.dumps(said, ensure_ascii=False, indent=1))
            self._file: IO[bytes] = self.path.open("ab")
        except OSError as error:
            raise InputError(f"{out} cannot be written: {error.strerror}") from error

    def _keep(self, out: Path, said: dict[str, Any]) -> None:
        try:
            before = json.loads((out / ORDER).read_text(encoding="utf-8"))
        except (OSError, ValueError):
            before = None
        if before:
            # Of a version that knew no such choice.
            before["order"].setdefault("white", None)
        # An engine of another version gives the same boxes to four digits.
        for each in (before, said):
            if each:
                each["model"].pop("engine", None)
        if before is not None and before != said:
            raise InputError(f"{out} holds a run with another model or other settings; name another folder")
        whole = 0
        for row, end in _rows(self.path):
            self.done[row["name"]] += 1
            whole = end
        with self.path.open("rb+") as opened:
            opened.truncate(whole)

    def add(self, row: Row) -> None:
        """Write a row to its end.

        Raises
        ------
        InputError
            If the disk is full or the folder cannot be written any more.
        """
        try:
            self._file.write(json.dumps(row, ensure_ascii=False, separators=(",", ":")).encode() + b"\n")
            self._file.flush()
        except OSError as error:
            raise InputError(f"{self.path} cannot be written: {error.strerror}") from error

    def close(self) -> None:
        self._file.close()


def read_record(path: Path) -> Iterator[Row]:
    """The rows of a record, as far as they are whole.

    Raises
    ------
    InputError
        If a whole line is none.
    """
    for row, _ in _rows(path):
        yield row


def _rows(path: Path) -> Iterator[tuple[Row, int]]:
    """Rows, and where in the file each ends."""
    end = 0
    with path.open("rb") as opened:
        while line := opened.readline(LONGEST_LINE):
            if not line.endswith(b"\n"):
                return
            end += len(line)
            try:
                row = json.loads(line)
                row["name"]
            except (ValueError, TypeError, KeyError):
                raise InputError(f"{path.name} is damaged at byte {end - len(line)}") from None
            yield row, end
