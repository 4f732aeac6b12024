"""``avocet detect``."""

import os
import shutil
import sys
import tempfile
from pathlib import Path
from typing import Any

import click

from avocet.cli.common import Bar
from avocet.core.errors import InputError
from avocet.core.raw.candidates import OVERLAP_LIMIT
from avocet.detector.model.predictor import Predictor
from avocet.work.use.running.copies import ANNOTATED, CROPS
from avocet.work.use.running.detect import detect as run
from avocet.work.use.running.detect import gather
from avocet.work.use.running.order import DetectionOrder, check_limits
from avocet.work.use.running.record import RECORD
from avocet.work.use.running.written import (
    COCO_NAME,
    CROPS_CSV,
    CSV_NAME,
    JSON_NAME,
    OBJECTS_CSV,
    OBJECTS_JSON,
    TEXT_NAME,
)


@click.command()
@click.option("--model", type=click.Path(path_type=Path), required=True, help="Model bundle.")
@click.argument("inputs", nargs=-1, required=True, metavar="INPUT...", type=click.Path(path_type=Path))
@click.option("--out", required=True, help="Folder for the results, or - for JSON Lines on standard output.")
@click.option(
    "--minimum-score", type=float, show_default="that of the model", help="Lowest score that is reported."
)
@click.option(
    "--overlap-limit", default=OVERLAP_LIMIT, show_default=True, help="IoU above which the worse box goes."
)
@click.option("--class", "only", multiple=True, help="Only this class counts; may be given several times.")
@click.option(
    "--copies",
    type=click.Choice(["boxes", "blurred", "pixelated", "filled", "none"]),
    default="boxes",
    show_default=True,
    help="What copies show: boxes, or what was found covered.",
)
@click.option("--beside", is_flag=True, help="Copies of clips have the original beside them.")
@click.option("--crops", is_flag=True, help="Every box as a picture of its own, with a list.")
@click.option("--every", default=1, show_default=True, help="Of a clip, look at every so-many-th frame.")
@click.option("--resume", is_flag=True, help="Go on with a run that was broken off; nothing is done twice.")
def detect(
    model: Path, inputs: tuple[Path, ...], out: str, minimum_score: float | None, resume: bool, **wished: Any
) -> None:
    """Find objects in pictures, folders of pictures and clips.

    Writes detections.jsonl as pictures are looked at, annotated copies, and at the end the same as JSON,
    CSV, COCO results and centre-text; boxes are in pixels of the original pictures. Objects of clips
    are linked over the frames and listed once each.

    \b
    Example:
      avocet detect --model model.zip pictures/ belt.mp4 --out found
      avocet detect --model model.zip pictures/ --copies none --out - | jq .name
    """
    check_limits(minimum_score or 0, wished["overlap_limit"])
    if wished["every"] < 1:
        raise InputError(f"--every must be 1 or more, not {wished['every']}")
    if out == "-":
        _to_standard_output(model, inputs, minimum_score, wished)
        return
    folder = Path(out)
    if folder.exists() and not folder.is_dir():
        raise InputError(f"{folder} is a file; name a folder for the results")
    items = gather(inputs, without=folder)
    predictor, order = _ordered(model, minimum_score, wished)
    with Bar("Detecting") as bar:
        summary = run(predictor, items, folder, order, bar, resume)
    _tell(summary, order, folder)
    if summary["problems"]:
        sys.exit(1)


def _ordered(
    model: Path, minimum_score: float | None, wished: dict[str, Any]
) -> tuple[Predictor, DetectionOrder]:
    predictor = Predictor.from_bundle(model)
    return predictor, DetectionOrder.for_model(predictor.about, wished | {"minimum_score": minimum_score})


def _to_standard_output(
    model: Path, inputs: tuple[Path, ...], minimum_score: float | None, wished: dict[str, Any]
) -> None:
    """The record alone; what else is made goes nowhere."""
    items = gather(inputs)
    predictor, order = _ordered(model, minimum_score, wished)
    order = order.model_copy(update={"copies": "none", "crops": False})
    place = Path(tempfile.mkdtemp(prefix="avocet-"))
    try:
        with Bar("Detecting") as bar:
            summary = run(predictor, items, place, order, bar)
        with (place / RECORD).open("rb") as opened:
            shutil.copyfileobj(opened, sys.stdout.buffer)
        sys.stdout.buffer.flush()
    except BrokenPipeError:
        # Whoever reads has enough; what is left in the buffer has nowhere to go.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return
    finally:
        shutil.rmtree(place, ignore_errors=True)
    for problem in summary["problems"]:
        click.echo(f"avocet: {problem}", err=True)
    if summary["problems"]:
        sys.exit(1)


def _tell(summary: dict[str, Any], order: DetectionOrder, folder: Path) -> None:
    """What was found, as a table."""
    for problem in summary["problems"]:
        click.echo(f"avocet: {problem}", err=True)
    speed = summary["frames_per_second"] or 0
    click.echo(
        f"{summary['detections']} boxes in {summary['pictures']} pictures and frames, {speed:.1f} a second "
        f"({summary['engine']})"
    )
    for name, count in summary["by_class"].items():
        click.echo(f"  {name}: {count} in {summary['pictures_with'][name]}")
    if summary["empty"]:
        click.echo(f"  no box at all: {summary['empty']}")
    objects = summary["objects"]
    if objects is not None:
        told = ", ".join(f"{name} {count}" for name, count in objects.items() if count)
        click.echo(
            f"{sum(objects.values())} objects in clips, each counted once{f': {told}' if told else ''}"
        )
    busy = ", ".join(f"{name} {seconds:.1f} s" for name, seconds in summary["stages"].items() if seconds)
    if busy:
        click.echo(f"Time at work: {busy}")
    written = [
        *([f"{ANNOTATED}/"] if order.copies != "none" else []),
        *([f"{CROPS}/", CROPS_CSV] if order.crops else []),
        RECORD, JSON_NAME, CSV_NAME, COCO_NAME, TEXT_NAME,
        *([OBJECTS_CSV, OBJECTS_JSON] if objects is not None else []),
    ]  # fmt: skip
    click.echo(f"Written to {folder}: {', '.join(written)}")
