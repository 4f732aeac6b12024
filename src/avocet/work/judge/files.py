"""An evaluation's figures and detections as files in open formats."""

import csv
import io
import json
from typing import Any

from avocet.core.raw.candidates import EVERY_SCORE
from avocet.formats.coco_results import write_results
from avocet.store.tables import Evaluation
from avocet.work.judge.opened import Measured

TITLES = (
    "class", "AP at IoU 0.5", "from", "to", "AP at IoU 0.50:0.95", "from", "to", "truths", "hits", "false alarms", "misses",
    "minimum score", "overlap limit",
)  # fmt: skip


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


def report_csv(report: dict[str, Any], measured: Measured, minimum_score: float, overlap_limit: float) -> str:
    """A line a class, and one for the mean; intervals hold 95 %.

    Boxes are counted at IoU 0.5 and at the two thresholds, which stand in every line: a count says nothing without them.
    """
    held = io.StringIO()
    writer = csv.writer(held)
    writer.writerow(TITLES)
    counts = measured.wall(minimum_score, overlap_limit).classes
    rows = [
        [each["hits"] + each["misses"], each["hits"], each["false_alarms"], each["misses"]] for each in counts
    ]
    at = [minimum_score, overlap_limit]
    for each, row in zip(counts, rows, strict=True):
        entry = report["classes"][each["name"]]
        writer.writerow([each["name"], *_precision(entry, "ap50"), *_precision(entry, "ap"), *row, *at])
    sums = [sum(column) for column in zip(*rows, strict=True)]
    writer.writerow(["mean", *_precision(report, "map50"), *_precision(report, "map"), *sums, *at])
    return held.getvalue()


def detections_json(measured: Measured, overlap_limit: float) -> str:
    """What was found, as COCO results; ids count the evaluation's pictures and classes from 1."""
    found = measured.found(EVERY_SCORE, overlap_limit)
    rows = write_results(found, list(range(1, len(found) + 1)), list(range(1, len(measured.classes) + 1)))
    return json.dumps(rows)


def _precision(entry: dict[str, Any], key: str) -> list[float | str]:
    """An average precision with the ends of its interval; empty where there is none."""
    value, interval = entry.get(key), entry.get(f"{key}_interval")
    return ["" if value is None else value, *(interval or ("", ""))]
