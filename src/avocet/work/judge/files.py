"""An evaluation's figures and detections as files in open formats."""

import csv
import io
import json
from typing import Any

from avocet.core.raw.candidates import EVERY_SCORE
from avocet.formats.coco_results import write_results
from avocet.store.tables import Evaluation
from avocet.work.judge.opened import Measured

COLUMNS = (
    ("ap50", "AP at IoU 0.5"),
    ("ap", "AP at IoU 0.50:0.95"),
    ("truths", "truths"),
    ("detections", "detections"),
    ("hits", "hits"),
    ("false_alarms", "false alarms"),
    ("misses", "misses"),
)


def report_json(evaluation: Evaluation) -> str:
    """All figures and settings."""
    document: dict[str, Any] = {
        "model": evaluation.name,
        "part": evaluation.part.value if evaluation.part else None,
        "snapshot": evaluation.snapshot.content_hash if evaluation.snapshot else None,
        "measured_at": evaluation.created_at.isoformat() + "Z",
        "settings": {key: value for key, value in evaluation.settings.items() if key != "truth_classes"},
        "figures": evaluation.report,
    }
    return json.dumps(document, indent=1, ensure_ascii=False)


def report_csv(report: dict[str, Any]) -> str:
    """A line a class, and one for the mean; intervals hold 95 %. Counts are at IoU 0.5 and any score."""
    held = io.StringIO()
    writer = csv.writer(held)
    titles = [title for _, title in COLUMNS]
    writer.writerow(["class", *titles[:1], "from", "to", *titles[1:2], "from", "to", *titles[2:]])
    for name, entry in report["classes"].items():
        first, second = entry.get("ap50_interval") or ("", ""), entry.get("ap_interval") or ("", "")
        counts = [entry.get(key, "") for key, _ in COLUMNS[2:]]
        writer.writerow([name, _plain(entry["ap50"]), *first, _plain(entry["ap"]), *second, *counts])
    sums = [sum(entry.get(key) or 0 for entry in report["classes"].values()) for key, _ in COLUMNS[2:]]
    first, second = report.get("map50_interval") or ("", ""), report.get("map_interval") or ("", "")
    writer.writerow(["mean", _plain(report["map50"]), *first, _plain(report["map"]), *second, *sums])
    return held.getvalue()


def detections_json(measured: Measured, overlap_limit: float) -> str:
    """What was found, as COCO results; ids count the evaluation's pictures and classes from 1."""
    found = measured.found(EVERY_SCORE, overlap_limit)
    rows = write_results(found, list(range(1, len(found) + 1)), list(range(1, len(measured.classes) + 1)))
    return json.dumps(rows)


def _plain(value: float | None) -> float | str:
    return "" if value is None else value
