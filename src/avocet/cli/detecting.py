"""``avocet detect``."""

import os
import shutil
import sys
import tempfile
from collections.abc import Sequence
from contextlib import AbstractContextManager, nullcontext
from pathlib import Path
from typing import Any

import click

from avocet.cli.common import Bar
from avocet.cli.options import cluster_option, white_option
from avocet.core.errors import InputError
from avocet.core.raw.candidates import OVERLAP_LIMIT
from avocet.core.raw.suppressing import METHODS
from avocet.detector.model.predictor import Predictor
from avocet.files import write_text
from avocet.work.use.counting import Shape, count_on, counts_as_csv, points_of, shape_of
from avocet.work.use.found import clips_of, found_in
from avocet.work.use.running.copies import ANNOTATED, CROPS
from avocet.work.use.running.detect import detect as run
from avocet.work.use.running.detect import gather
from avocet.work.use.running.objects import TRACKS
from avocet.work.use.running.order import DetectionOrder, check_limits
from avocet.work.use.running.record import RECORD
from avocet.work.use.running.written import (
    COCO_NAME,
    COUNTS_CSV,
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
    "--minimum-score",
    "scores",
    multiple=True,
    metavar="SCORE|CLASS=SCORE",
    show_default="that of the model",
    help="Lowest score that is reported, of all classes or of one; may be given several times.",
)
@click.option(
    "--overlap-limit", default=OVERLAP_LIMIT, show_default=True, help="IoU above which the worse box goes."
)
@click.option(
    "--suppression",
    type=click.Choice(list(METHODS)),
    default="by class",
    show_default=True,
    help="How duplicates go; the soft ways, linear and gaussian, lower their scores.",
)
@click.option("--class", "only", multiple=True, help="Only this class counts; may be given several times.")
@click.option(
    "--region",
    metavar='"X,Y X,Y X,Y..."',
    default="",
    help="Only what lies in this polygon counts; corners in parts of width and height.",
)
@click.option(
    "--tile",
    type=int,
    help="Look in overlapping tiles of so many pixels a side, for small objects on large pictures; they are found "
    "where they take as much of a tile as they took of the pictures that were learnt from.",
)
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
@click.option("--a-second", type=float, help="Of a clip, look at so many frames a second.")
@click.option(
    "--count-line",
    "lines",
    multiple=True,
    metavar='"NAME: X,Y X,Y"',
    help='Count objects of clips that cross this line; may end with ": SIDE | SIDE", left side first.',
)
@click.option(
    "--count-region",
    "regions",
    multiple=True,
    metavar='"NAME: X,Y X,Y X,Y..."',
    help="Count objects of clips that are inside.",
)
@white_option
@cluster_option
@click.option("--resume", is_flag=True, help="Go on with a run that was broken off; nothing is done twice.")
def detect(
    model: Path,
    inputs: tuple[Path, ...],
    out: str,
    scores: tuple[str, ...],
    region: str,
    lines: tuple[str, ...],
    regions: tuple[str, ...],
    resume: bool,
    cluster: str | None,
    **wished: Any,
) -> None:
    """Find boxes in pictures, folders of pictures and clips.

    Writes detections.jsonl as pictures are looked at, annotated copies, and at the end the same as JSON,
    CSV, COCO results and centre-text; boxes are in pixels of the original pictures. Objects of clips
    are linked over the frames and listed once each.

    \b
    Example:
      avocet detect --model model.zip pictures/ belt.mp4 --out found
      avocet detect --model model.zip pictures/ --copies none --out - | jq .name
      avocet detect --model model.zip belt.mp4 --out found --count-line "gate: 0.5,0 0.5,1: oven | packing"
    """
    wished |= _scores(scores) | {"region": points_of(region)}
    shapes = [shape_of("line", each) for each in lines] + [shape_of("region", each) for each in regions]
    if out == "-":
        if shapes:
            raise InputError("counts are written to a folder; name one with --out")
        _to_standard_output(model, inputs, wished, cluster)
        return
    folder = Path(out)
    if folder.exists() and not folder.is_dir():
        raise InputError(f"{folder} is a file; name a folder for the results")
    items = gather(inputs, without=folder)
    predictor, order = _ordered(model, wished)
    with _spreading(cluster, model, order) as spread, Bar("Detecting") as bar:
        summary = run(predictor, items, folder, order, bar, resume, spread)
    _tell(summary, order, folder)
    if shapes:
        _count(shapes, folder)
    if summary["problems"]:
        sys.exit(1)


def _scores(given: tuple[str, ...]) -> dict[str, Any]:
    """Minimum scores as fields of an order: that of all classes, and those of single ones."""
    fields: dict[str, Any] = {}
    for each in given:
        name, _, value = each.rpartition("=")
        try:
            score = float(value)
        except ValueError:
            raise InputError(f"--minimum-score {each!r}: {value!r} is no number") from None
        check_limits(score, 0)
        if name:
            fields.setdefault("minimum_scores", {})[name] = score
        else:
            fields["minimum_score"] = score
    return fields


def _ordered(model: Path, wished: dict[str, Any]) -> tuple[Predictor, DetectionOrder]:
    predictor = Predictor.from_bundle(model)
    return predictor, DetectionOrder.for_model(predictor.about, wished)


def _spreading(cluster: str | None, model: Path, order: DetectionOrder) -> AbstractContextManager[Any]:
    if cluster is None:
        return nullcontext()
    # Imported here: it takes seconds that a run on this machine alone need not wait for.
    from avocet.work.cluster.spread import spreading
    from avocet.work.models.bundle_set import Bundles

    return spreading(cluster, Bundles((model,)), order, "avocet detect")


def _count(shapes: Sequence[Shape], folder: Path) -> None:
    """Count objects of every clip by lines and regions, say what came of it and write it down."""
    found = found_in(folder)
    clips = clips_of(found) if found is not None else []
    if found is None or not clips or not (folder / TRACKS).is_file():
        raise InputError("lines and regions count objects of clips, and no clip was looked at")
    parts: list[str] = []
    for clip in clips:
        counted = count_on(clip, found, folder / TRACKS, shapes)
        name = found.looked[clip[1]].name
        parts.append(counts_as_csv(counted, name, heading=not parts))
        for each in counted:
            shape = each["shape"]
            if shape["kind"] == "line":
                one, other = shape["sides"]
                forth, back = sum(each["forward"].values()), sum(each["back"].values())
                told = f"{forth} from {one} to {other}, {back} back"
            else:
                told = f"{sum(each['objects'].values())} inside, {each['most']} at once at most"
            click.echo(f"{name}, {shape['name'] or shape['kind']}: {told}")
    write_text(folder / COUNTS_CSV, "".join(parts))
    click.echo(f"Every crossing and stay: {folder / COUNTS_CSV}")


def _to_standard_output(
    model: Path, inputs: tuple[Path, ...], wished: dict[str, Any], cluster: str | None
) -> None:
    """The record alone; what else is made goes nowhere."""
    items = gather(inputs)
    predictor, order = _ordered(model, wished)
    order = order.model_copy(update={"copies": "none", "crops": False})
    place = Path(tempfile.mkdtemp(prefix="avocet-"))
    try:
        with _spreading(cluster, model, order) as spread, Bar("Detecting") as bar:
            summary = run(predictor, items, place, order, bar, spread=spread)
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
    if summary.get("machines"):
        told = ", ".join(f"{count} by {name}" for name, count in summary["machines"].items())
        lost = summary["workers_lost"]
        click.echo(f"Portions looked at: {told}" + (f"; {lost} workers were lost" if lost else ""))
    if white := summary.get("white"):
        whites = " and ".join(f"{each:,g}" for each in white["whites"])
        click.echo(f"{white['pictures']} pictures of more than 8 bits, white at {whites}")
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
