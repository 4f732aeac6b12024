"""Tables that ``avocet evaluate`` prints."""

from collections.abc import Sequence
from typing import Any

import click

from avocet.cli.common import number
from avocet.core.score.mistakes import KINDS
from avocet.core.score.operating import Wish
from avocet.work.judge.answers import chosen_scores, confusion_of, mistakes_of
from avocet.work.judge.opened import Measured


def show_figures(figures: dict[str, Any], measured: Measured, overlap_limit: float) -> None:
    """AP by class with its interval, boxes counted at the minimum score, mAP by size, recall."""
    least: float = figures["minimum_score"]
    counted = {each["name"]: each for each in measured.wall(least, overlap_limit).classes}
    width, ranged = max(5, *map(len, figures["classes"])), figures["resamples"] > 0
    click.echo(f"{'class':{width}}   AP@.5  95 % range         AP  truths  hits  false alarms  misses")
    for name, entry in figures["classes"].items():
        sums = counted[name]
        counts = f"{entry['truths']:6}  {sums['hits']:4}  {sums['false_alarms']:12}  {sums['misses']:6}"
        between = _between(entry["ap50_interval"], entry["ap50"] if ranged else None)
        click.echo(f"{name:{width}}  {number(entry['ap50'])}  {between}  {number(entry['ap'])}  {counts}")
    between = _between(figures["map50_interval"], figures["map50"] if ranged else None)
    click.echo(f"{'mean':{width}}  {number(figures['map50'])}  {between}  {number(figures['map'])}")
    small, medium = figures["area_bounds"]
    sizes = ", ".join(
        f"{size} {number(entry['map']).strip()}"
        + (f" ({_between(held, entry['map'])})" if (held := entry["interval"]) else "")
        for size, entry in figures["sizes"].items()
    )
    recalls = ", ".join(f"{number(value).strip()} at {limit}" for limit, value in figures["recall"].items())
    held = figures["map_interval"]
    between = f"; at 0.50:0.95 between {held[0]:.3f} and {held[1]:.3f} (95 %)" if held else ""
    click.echo(f"mAP at 0.75 {number(figures['map75']).strip()}{between}")
    click.echo(f"mAP at 0.50:0.95 by size: {sizes} (to {small:g}², to {medium:g}², above, in square pixels)")
    click.echo(f"Average recall {recalls} predictions of a class a picture")
    click.echo(
        f"Measured on {figures['pictures']} pictures, {figures['interpolation']} rule; counts are at IoU 0.5 "
        f"and from a score of {least:g} on. In {figures['flawless']} everything was found there, and nothing else."
    )
    if figures["calibration_error"] is not None:
        before = figures.get("calibration_error_before")
        click.echo(
            f"Scores are off by {figures['calibration_error']:.3f} on average (calibration error)"
            + (f"; before they were calibrated by {before:.3f}" if before is not None else "")
        )


def show_mistakes(measured: Measured, minimum_score: float, overlap_limit: float) -> None:
    """Kinds of error, how often each is made and what mending it brings."""
    width, head = max(map(len, KINDS)), f"above {minimum_score:g}"
    click.echo(f"\n{'Kinds of error':{width + 2}}  {head:>11}  mAP@.5 if mended")
    for each in mistakes_of(measured, minimum_score, overlap_limit):
        gain = "" if each.gain is None else f"{each.gain:+.3f}"
        click.echo(f"  {each.name:{width}}  {each.count:11}  {gain:>16}")


def show_confusion(measured: Measured, minimum_score: float, overlap_limit: float) -> None:
    """Who is taken for whom."""
    made = confusion_of(measured, minimum_score, overlap_limit, 0.5)
    rows, columns = [*measured.classes, "background"], [*measured.classes, "not found"]
    width = max(map(len, (*rows, *columns)))
    click.echo(f"\nTrue class by row, predicted by column, at minimum score {minimum_score:g} and IoU 0.5")
    click.echo(" " * width + "".join(f"  {name:>{max(len(name), 4)}}" for name in columns))
    for name, counts in zip(rows, made.counts.tolist(), strict=True):
        click.echo(f"{name:{width}}" + _row(counts, columns))


def show_scores(measured: Measured, overlap_limit: float, wish: Wish, amount: float) -> None:
    """The minimum score of each class that a wish asks for."""
    said = f"at least {amount:g} {wish}" if wish in ("precision", "recall") else wish
    click.echo(f"\nMinimum score of each class by {said}")
    for each in chosen_scores(measured, overlap_limit, wish, amount):
        if each.score is None:
            click.echo(f"  {each.name}: no minimum score does it")
            continue
        click.echo(
            f"  {each.name}: {each.score:.3f} gives precision {number(each.precision).strip()}, "
            f"recall {number(each.recall).strip()}, F1 {number(each.f1).strip()}"
        )


def _row(counts: Sequence[int], columns: Sequence[str]) -> str:
    return "".join(
        f"  {count or '.':>{max(len(name), 4)}}" for count, name in zip(counts, columns, strict=True)
    )


def _between(held: Sequence[float] | None, figure: float | None) -> str:
    """A range; of a figure without one there were too few pictures, or another rule was asked for."""
    if held:
        return f"{held[0]:.3f} to {held[1]:.3f}"
    return f"{'' if figure is None else 'too few':14}"
