"""``avocet explain``."""

import json
from pathlib import Path

import click

from avocet.core.raw.candidates import MINIMUM_SCORE, MOST_CANDIDATES, OVERLAP_LIMIT
from avocet.core.raw.soft_suppression import SIGMA
from avocet.core.raw.suppressing import METHODS, Method
from avocet.detector.model.predictor import Predictor
from avocet.files import write_text
from avocet.media.pictures import read_picture
from avocet.work.anatomy.raw import explanation
from avocet.work.anatomy.take_apart import take_apart_pixels
from avocet.work.use.running.order import check_limits


@click.command()
@click.option("--model", type=click.Path(path_type=Path), required=True, help="Model bundle.")
@click.argument("picture", type=click.Path(path_type=Path, dir_okay=False))
@click.option("--minimum-score", type=float, show_default="that of the model")
@click.option("--overlap-limit", default=OVERLAP_LIMIT, show_default=True)
@click.option("--suppression", type=click.Choice(list(METHODS)), default="by class", show_default=True)
@click.option("--sigma", default=SIGMA, show_default=True, help="Width of the Gaussian.")
@click.option(
    "--max-candidates",
    default=MOST_CANDIDATES,
    show_default=True,
    help="Candidates that suppression looks at.",
)
@click.option(
    "--out", type=click.Path(path_type=Path, dir_okay=False), help="JSON file; by default it is printed."
)
def explain(
    model: Path,
    picture: Path,
    minimum_score: float | None,
    overlap_limit: float,
    suppression: Method,
    sigma: float,
    max_candidates: int,
    out: Path | None,
) -> None:
    """Say how raw outputs became boxes: every candidate, where it came from and what became of it.

    Candidates that reach suppression carry their whole arithmetic; the others are counted.

    \b
    Example:
      avocet explain --model model.zip belt.jpg --out belt.json
    """
    check_limits(MINIMUM_SCORE if minimum_score is None else minimum_score, overlap_limit)
    if not 0 < sigma <= 10:
        raise click.BadParameter(f"sigma must lie above 0 and up to 10, not {sigma}")
    if max_candidates < 1:
        raise click.BadParameter(f"at least one candidate is needed, not {max_candidates}")
    apart = take_apart_pixels(
        Predictor.from_bundle(model), read_picture(picture, picture.name), model.name, picture.name
    )
    least = apart.facts.minimum_score if minimum_score is None else minimum_score
    found = apart.fates(least, overlap_limit, suppression, sigma, max_candidates)
    document = json.dumps(explanation(apart, found, least, overlap_limit, suppression), indent=1)
    if out is None:
        click.echo(document)
        return
    write_text(out, document + "\n")
    everything, above, best, kept = found.funnel()
    click.echo(
        f"{everything} candidates, {above} above {least:g}, {best} of them looked at, {kept} kept: {out}"
    )
