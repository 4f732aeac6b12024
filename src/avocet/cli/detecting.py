"""``avocet detect``."""

import sys
from pathlib import Path

import click

from avocet.cli.common import Bar
from avocet.core.errors import InputError
from avocet.core.raw.candidates import MINIMUM_SCORE, OVERLAP_LIMIT
from avocet.detector.model.predictor import Predictor
from avocet.work.use.detect import ANNOTATED, CSV_NAME, JSON_NAME, gather
from avocet.work.use.detect import detect as run
from avocet.work.use.detections import check_limits
from avocet.work.use.objects import OBJECTS_CSV, OBJECTS_JSON


@click.command()
@click.option("--model", type=click.Path(path_type=Path), required=True, help="Model bundle.")
@click.argument("inputs", nargs=-1, required=True, metavar="INPUT...", type=click.Path(path_type=Path))
@click.option(
    "--out", type=click.Path(path_type=Path, file_okay=False), required=True, help="Folder for the results."
)
@click.option(
    "--minimum-score",
    type=float,
    show_default="that of the model",
    help="Lowest score that is reported.",
)
@click.option(
    "--overlap-limit", default=OVERLAP_LIMIT, show_default=True, help="IoU above which the worse box goes."
)
def detect(
    model: Path, inputs: tuple[Path, ...], out: Path, minimum_score: float | None, overlap_limit: float
) -> None:
    """Find objects in pictures, folders of pictures and clips.

    Writes annotated copies, detections.json and detections.csv; boxes are in pixels of the
    original pictures.

    \b
    Example:
      avocet detect --model model.zip pictures/ belt.mp4 --out found
    """
    check_limits(MINIMUM_SCORE if minimum_score is None else minimum_score, overlap_limit)
    items = gather(inputs)
    # Results of an earlier run that lie within the folder looked at are no input.
    earlier = (out / ANNOTATED).resolve()
    items = [each for each in items if not each.path.resolve().is_relative_to(earlier)]
    if not items:
        raise InputError(f"{out} holds nothing but earlier results; name the pictures to look at")
    predictor = Predictor.from_bundle(model)
    with Bar("Detecting") as bar:
        least = predictor.card.minimum_score if minimum_score is None else minimum_score
        chosen = predictor.card.minimum_scores if minimum_score is None else {}
        summary = run(predictor, items, out, least, overlap_limit, bar, chosen)
    for problem in summary["problems"]:
        click.echo(f"avocet: {problem}", err=True)
    speed = summary["frames_per_second"] or 0
    click.echo(
        f"{summary['detections']} boxes in {summary['pictures']} pictures and frames, {speed:.1f} a second"
    )
    for name, count in summary["by_class"].items():
        click.echo(f"  {name}: {count}")
    objects = summary["objects"]
    if objects is not None:
        told = ", ".join(f"{name} {count}" for name, count in objects.items() if count)
        click.echo(
            f"{sum(objects.values())} objects in clips, each counted once{f': {told}' if told else ''}"
        )
    written = [
        f"{ANNOTATED}/",
        JSON_NAME,
        CSV_NAME,
        *([OBJECTS_CSV, OBJECTS_JSON] if objects is not None else []),
    ]
    click.echo(f"Written to {out}: {', '.join(written)}")
    if summary["problems"]:
        sys.exit(1)
