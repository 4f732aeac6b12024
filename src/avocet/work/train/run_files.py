"""What lies beside a run: its log, its figures as a table, everything as one archive."""

import csv
import datetime as dt
import io
import json
import zipfile
from pathlib import Path
from typing import Any

from sqlalchemy.orm import Session

from avocet.files import replacing
from avocet.store.folder import DataFolder
from avocet.store.tables import Run

LONGEST_LOG = 200_000
"""Bytes of a log that are shown, from its end."""


def add_to_log(place: Path, line: str) -> None:
    """Add a line with the time to the run's log."""
    place.mkdir(parents=True, exist_ok=True)
    stamp = dt.datetime.now().strftime("%Y-%m-%d %H:%M:%S")
    with (place / "log.txt").open("a", encoding="utf-8") as log:
        log.write(f"{stamp}  {line}\n")


def read_log(folder: DataFolder, run: Run) -> list[str]:
    """The run's log, its end where it is long."""
    path = folder.run(run.project_id, run.id) / "log.txt"
    if not path.is_file():
        return []
    with path.open("rb") as log:
        log.seek(max(0, path.stat().st_size - LONGEST_LOG))
        return log.read().decode("utf-8", "replace").splitlines()


def metrics_csv(run: Run) -> str:
    """A line an epoch: losses by part, learning rate, speed, precision in all and by class."""
    table = io.StringIO()
    rows = [_row(each.epoch, each.figures) for each in run.epochs]
    columns = list(dict.fromkeys(name for row in rows for name in row))
    writer = csv.DictWriter(table, columns, restval="")
    writer.writeheader()
    writer.writerows(rows)
    return table.getvalue()


def export_run(session: Session, folder: DataFolder, run: Run, target: Path) -> None:
    """Write settings, figures, log and models of a run as one zip."""
    about = {
        "name": run.name,
        "note": run.note,
        "snapshot": run.snapshot.content_hash,
        "settings": run.settings,
        "facts": run.facts,
        "best": {"epoch": run.best_epoch, "map50": run.best_map50, "map": run.best_map},
    }
    place = folder.run(run.project_id, run.id)
    with replacing(target) as temporary, zipfile.ZipFile(temporary, "w", zipfile.ZIP_DEFLATED) as archive:
        texts = {
            "run.json": json.dumps(about, indent=2, ensure_ascii=False),
            "metrics.csv": metrics_csv(run),
            "log.txt": "\n".join(read_log(folder, run)) + "\n",
        }
        for name, text in texts.items():
            # Without the time, so that what is the same is the same file.
            archive.writestr(zipfile.ZipInfo(name), text, zipfile.ZIP_DEFLATED)
        for name in ("best.zip", "latest.zip"):
            if (place / name).is_file():
                archive.write(place / name, name, zipfile.ZIP_STORED)


def _row(epoch: int, figures: dict[str, Any]) -> dict[str, Any]:
    row: dict[str, Any] = {"epoch": epoch}
    row |= {name: value for name, value in figures.items() if not isinstance(value, dict)}
    validation = figures.get("validation") or {}
    row |= {f"validation_{name}": value for name, value in validation.items() if name != "by_class"}
    for name, entry in (validation.get("by_class") or {}).items():
        row |= {f"{name} AP50": entry.get("ap50"), f"{name} AP": entry.get("ap")}
    return row
