"""``avocet evaluate``."""

import json
from pathlib import Path

import click
import numpy as np

from avocet.cli.common import Bar, number, stop_at_faults
from avocet.core.boxes import as_boxes
from avocet.core.errors import InputError
from avocet.detector.labelled import LabelledPicture
from avocet.detector.predictor import Predictor
from avocet.files import write_text
from avocet.formats.kinds import recognise
from avocet.formats.record import IGNORE, RecordedPicture
from avocet.media.pictures import read_picture
from avocet.work.locating import Located, locate, opened_labels
from avocet.work.measuring import by_name, find_candidates, measure


@click.command()
@click.option("--model", type=click.Path(path_type=Path), required=True, help="Model bundle.")
@click.option(
    "--truth", type=click.Path(path_type=Path), required=True, help="COCO JSON with the true boxes."
)
@click.option("--images", type=click.Path(path_type=Path), required=True, help="Folder with its pictures.")
@click.option(
    "--report", type=click.Path(path_type=Path, dir_okay=False), help="Also write the figures as JSON."
)
@click.option(
    "--skip-faulty", is_flag=True, help="Leave out entries that are wrong instead of refusing the file."
)
def evaluate(model: Path, truth: Path, images: Path, report: Path | None, skip_faulty: bool) -> None:
    """Measure a model's mean average precision on pictures with known boxes.

    Classes are matched by name. A class of the truth that the model does not know counts with
    an average precision of 0.

    \b
    Example:
      avocet evaluate --model model.zip --truth truth.json --images pictures --report figures.json
    """
    predictor = Predictor.from_bundle(model)
    with opened_labels(truth, images) as (files, folder):
        if folder is None:
            raise InputError(f"{truth.name} has no pictures beside it; name their folder with --images")
        located = locate(recognise(files).read(files, folder.find), folder, truth.name)
        stop_at_faults(located.problems, skip_faulty)
        _measure(predictor, model, truth, located, report)


def _measure(predictor: Predictor, model: Path, truth: Path, located: Located, report: Path | None) -> None:
    record = located.record
    if not record.pictures:
        raise InputError(f"{truth.name} has no picture to measure on")
    used = {box.label for picture in record.pictures for box in picture.boxes}
    if not used:
        raise InputError(f"{truth.name} has no box to measure against")
    unknown = [
        record.class_names[label]
        for label in sorted(used)
        if record.class_names[label] not in predictor.card.classes
    ]
    if len(unknown) == len(used):
        raise InputError(
            f"{model.name} knows the classes {', '.join(predictor.card.classes)}; "
            f"{truth.name} has only others: {', '.join(unknown)}"
        )
    if unknown:
        click.echo(
            f"avocet: {model.name} does not know the classes {', '.join(unknown)}; they count as never found",
            err=True,
        )
    pictures = [_labelled(picture, located.paths[picture.name]) for picture in record.pictures]
    with Bar("Measuring") as bar:
        candidates = find_candidates(predictor, pictures, bar)
    figures = measure(
        record.class_names, pictures, by_name(candidates, predictor.card.classes, record.class_names)
    )
    if report is not None:
        write_text(report, json.dumps(figures, indent=2, ensure_ascii=False) + "\n")
    _show(figures)


def _labelled(picture: RecordedPicture, path: Path) -> LabelledPicture:
    return LabelledPicture(
        name=picture.name,
        width=picture.width,
        height=picture.height,
        read=lambda: read_picture(path, picture.name),
        boxes=as_boxes([box.corners for box in picture.boxes]),
        classes=np.array([box.label for box in picture.boxes], dtype=np.int64),
        ignored=np.array(
            [box.crowd or bool(box.attributes.get(IGNORE)) for box in picture.boxes], dtype=bool
        ),
    )


def _show(figures: dict) -> None:
    width = max(5, *map(len, figures["classes"]))
    click.echo(f"{'class':{width}}   AP@.5  95 % interval      AP  truths  hits  false alarms  misses")
    for name, entry in figures["classes"].items():
        counts = f"{entry['truths']:6}  {entry['hits']:4}  {entry['false_alarms']:12}  {entry['misses']:6}"
        between = _between(entry["ap50_interval"])
        click.echo(f"{name:{width}}  {number(entry['ap50'])}  {between}  {number(entry['ap'])}  {counts}")
    between = _between(figures["map50_interval"])
    click.echo(f"{'mean':{width}}  {number(figures['map50'])}  {between}  {number(figures['map'])}")
    sizes = ", ".join(f"{size} {number(entry['map']).strip()}" for size, entry in figures["sizes"].items())
    recalls = ", ".join(f"{number(value).strip()} at {limit}" for limit, value in figures["recall"].items())
    low, high = figures["map_interval"] or (float("nan"), float("nan"))
    click.echo(
        f"mAP at 0.75 {number(figures['map75']).strip()}; at 0.50:0.95 between {low:.3f} and {high:.3f} (95 %)"
    )
    click.echo(f"mAP at 0.50:0.95 by size: {sizes} (to 32², to 96², above, in square pixels)")
    click.echo(f"Average recall {recalls} detections of a class a picture")
    click.echo(
        f"Measured on {figures['pictures']} pictures; counts are at IoU 0.5 and any score. In {figures['flawless']} "
        "everything was found above 0.25, and nothing else."
    )


def _between(held: list[float] | None) -> str:
    return f"{held[0]:.3f} to {held[1]:.3f}" if held else " " * 14
