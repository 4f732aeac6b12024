"""``avocet evaluate``."""

import json
from pathlib import Path
from typing import Any, get_args

import click

from avocet.cli.common import Bar, named_pairs, number, stop_at_faults
from avocet.cli.options import cluster_option, white_option
from avocet.cli.tables import show_confusion, show_figures, show_mistakes, show_scores
from avocet.core.raw.candidates import MINIMUM_SCORE
from avocet.core.score.measurement import AREA_BOUNDS
from avocet.core.score.operating import Wish
from avocet.core.score.precision import INTERPOLATIONS
from avocet.files import write_text
from avocet.work.judge.beside import put_side_by_side
from avocet.work.judge.files import report_csv
from avocet.work.judge.from_files import FileTruth, measure_file, read_truth
from avocet.work.progress import Silent


@click.command()
@click.option("--model", type=click.Path(path_type=Path), help="Model bundle.")
@click.option(
    "--detections",
    type=click.Path(path_type=Path),
    help="COCO results JSON of any program, instead of a model.",
)
@click.option(
    "--truth", type=click.Path(path_type=Path), required=True, help="COCO JSON with the true boxes."
)
@click.option(
    "--pictures", type=click.Path(path_type=Path), help="Folder with its pictures; detections need none."
)
@click.option(
    "--against", type=click.Path(path_type=Path), help="Another bundle or results JSON to compare with."
)
@click.option(
    "--map", "mapping", multiple=True, metavar="SAID=MEANT",
    help="A class of the model, or a category id of the detections, and the truth's class it means; none leaves it out.",
)  # fmt: skip
@click.option(
    "--interpolation", type=click.Choice(list(INTERPOLATIONS)), default="101-point", show_default=True
)
@click.option(
    "--areas", type=(float, float), default=AREA_BOUNDS, show_default=True,
    help="Sides of a square in pixels that part small, medium and large objects.",
)  # fmt: skip
@click.option(
    "--minimum-score",
    type=float,
    show_default=f"that of the model, else {MINIMUM_SCORE}",
    help="For confusion and kinds of error.",
)
@click.option("--overlap-limit", type=float, help="Of suppression; 0.5 for a model, none for detections.")
@click.option("--choose-score-by", "wish", type=click.Choice(list(get_args(Wish))), default="f1", show_default=True,
              help="What the minimum score of each class is chosen by.")  # fmt: skip
@click.option(
    "--target", "amount", default=0.95, show_default=True, help="The precision or recall that is aimed at."
)
@click.option(
    "--report", type=click.Path(path_type=Path, dir_okay=False), help="Also write the figures as JSON."
)
@click.option(
    "--csv", "table", type=click.Path(path_type=Path, dir_okay=False), help="Also write them as CSV."
)
@white_option
@cluster_option
@click.option(
    "--skip-faulty", is_flag=True, help="Leave out entries that are wrong instead of refusing the file."
)
def evaluate(
    model: Path | None, detections: Path | None, truth: Path, pictures: Path | None, against: Path | None,
    mapping: tuple[str, ...], interpolation: str, areas: tuple[float, float], minimum_score: float | None,
    overlap_limit: float | None, wish: Wish, amount: float, report: Path | None, table: Path | None,
    cluster: str | None, white: float | None, skip_faulty: bool,
) -> None:  # fmt: skip
    """Measure a model, or detections of any program, on pictures with known boxes.

    Classes are matched by name. A class of the truth that the model does not know counts with
    an average precision of 0.

    \b
    Example:
      avocet evaluate --model model.zip --truth truth.json --pictures pictures --report figures.json
      avocet evaluate --detections found.json --truth truth.json --against other.json
    """
    if (model is None) == (detections is None):
        raise click.UsageError("name either --model or --detections")
    settings = {
        "interpolation": interpolation, "areas": areas, "overlap_limit": overlap_limit,
        "minimum_score": minimum_score, "white": white,
    }  # fmt: skip
    class_map = named_pairs(mapping, "--map", "SAID=MEANT")
    with read_truth(truth, pictures, needs_pictures=model is not None) as known:
        stop_at_faults(known.problems, skip_faulty)
        subject = model or detections
        assert subject is not None
        measured, figures, limit = _measure(
            known, subject, detections is not None, class_map, settings, cluster
        )
        other = None
        if against is not None:
            other, _, _ = _measure(
                known, against, against.suffix.lower() == ".json", class_map, settings, cluster
            )
    if report is not None:
        write_text(report, json.dumps(figures, indent=2, ensure_ascii=False) + "\n")
    if table is not None:
        write_text(table, report_csv(figures, measured, figures["minimum_score"], limit))
    show_figures(figures, measured, limit)
    least: float = figures["minimum_score"]
    show_mistakes(measured, least, limit)
    show_confusion(measured, least, limit)
    show_scores(measured, limit, wish, amount)
    if other is not None:
        made = put_side_by_side(other, measured, least, limit)
        click.echo(f"\n{made.words}")
        for each in made.figures:
            said = f", {each.verdict}" if each.verdict else ""
            click.echo(f"  {each.name}: {number(each.second)} against {number(each.first)}{said}")


def _measure(
    known: FileTruth,
    path: Path,
    is_detections: bool,
    class_map: dict[str, str],
    settings: dict[str, Any],
    cluster: str | None,
) -> tuple[Any, dict[str, Any], float]:
    if is_detections:
        done = measure_file(known, path, True, class_map, settings, Silent())
    else:
        with Bar("Measuring") as bar:
            done = measure_file(known, path, False, class_map, settings, bar, cluster)
    for note in done.notes:
        click.echo(f"avocet: {note}", err=True)
    return done.measured, done.figures, done.overlap_limit
