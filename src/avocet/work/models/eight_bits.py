"""A run's model in 8 bits: tried on its validation pictures, used where it is quicker here and as precise."""

import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
import onnx
from numpy.typing import NDArray

from avocet.core.errors import InputError
from avocet.core.raw.candidates import MEASURING_SCORE, OVERLAP_LIMIT
from avocet.core.score.chance.paired import difference
from avocet.core.score.chance.resampling import resample
from avocet.core.score.chance.swapping import swap
from avocet.core.score.measurement import MatchedPictures, match_pictures
from avocet.core.score.precision import COCO_THRESHOLDS
from avocet.detector.engines.eight_bits import value_ranges
from avocet.detector.engines.onnx_engine import OnnxEngine
from avocet.detector.engines.opening import ONNX_RUNTIME, eight_bit_bytes, engine_taken, graph_bytes
from avocet.detector.model.card import read_bundle_parts
from avocet.detector.model.predictor import Predictor
from avocet.detector.pictures.labelled import LabelledPicture
from avocet.readable import signed, so_many
from avocet.store.database import Sessions, reading
from avocet.store.folder import DataFolder
from avocet.store.tables import Part
from avocet.work.job_givens import ForRun
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import EightBitsTried
from avocet.work.judge.report import RESAMPLING_SEED, find_candidates
from avocet.work.models.bundles import keep_eight_bits, set_value_ranges
from avocet.work.progress import SILENT, Reporter, Stopped
from avocet.work.snapshots.frozen import labelled_pictures, truth_in
from avocet.work.snapshots.snapshots import read_snapshot
from avocet.work.train.runs import get_run, model_path

LEARNT_FROM = 64
"""Training pictures, spread over all, on which the values between the layers are looked at."""

PRECISE = 0.005
"""mAP that may be lost."""

QUICKER = 1.05
"""How many times as quick 8 bits have to be in three of four pairs: less is nothing that anybody sees."""

PAIRS, TIMED_PICTURES = 40, 8


def do_try_eight_bits(task: Task[ForRun]) -> EightBitsTried:
    """Try 8 bits in the background: it takes a pass over the pictures."""
    return try_eight_bits(task.sessions, task.folder, task.given.run_id, task.reporter)


def try_eight_bits(
    sessions: Sessions, folder: DataFolder, run_id: int, reporter: Reporter = SILENT
) -> EightBitsTried:
    """Try 8 bits on a run's validation pictures, and use them from now on where that serves.

    Raises
    ------
    InputError
        If the run has no validation pictures, was trained on meanwhile, or it is not the processor that computes here.
    Stopped
        If a person asked to stop; nothing has changed then.
    """
    engine, why = engine_taken()
    if engine != ONNX_RUNTIME:
        raise InputError(f"8 bits are for processors; here {engine} computes, as {why}")
    with reading(sessions)() as session:
        run = get_run(session, run_id)
        bundle = model_path(folder, run)
        frozen, project_id = read_snapshot(folder, run.snapshot), run.project_id
    training, validation = (
        labelled_pictures(folder, project_id, frozen, part) for part in (Part.TRAINING, Part.VALIDATION)
    )
    if not training or not validation:
        raise InputError("the run has no validation pictures on which 8 bits could be measured")
    card, weights = read_bundle_parts(bundle)
    plain, graph = card.model_copy(update={"value_ranges": {}}), graph_bytes(bundle)
    usual = Predictor(plain, OnnxEngine(graph, plain))
    told = _Told(reporter, min(LEARNT_FROM, len(training)) + 2 * len(validation))
    ranges = value_ranges(onnx.load_model_from_string(graph), told.each(_inputs(usual, training)))
    changed = card.model_copy(update={"value_ranges": ranges})
    small = eight_bit_bytes(graph, changed)
    tried = Predictor(changed, OnnxEngine(small, changed))
    truths = [truth_in(each) for each in frozen.pictures if each.part == Part.VALIDATION]
    matched = []
    for each in (usual, tried):
        found = find_candidates(each, validation, told)
        boxes = [candidates.after_suppression(MEASURING_SCORE, OVERLAP_LIMIT) for candidates in found]
        matched.append(match_pictures(truths, boxes, range(len(card.classes)), COCO_THRESHOLDS))
        told.through(len(validation))
    overall, at_half = _compared(*matched)
    milliseconds, ratios = _side_by_side(usual, tried, validation)
    made = EightBitsTried(
        used=False,
        said="",
        pictures=len(validation),
        map=overall.figures,
        map50=at_half.figures,
        map_change=overall.change,
        map50_change=at_half.change,
        more_than_chance=(overall.more_than_chance, at_half.more_than_chance),
        milliseconds=milliseconds,
        times=float(np.median(ratios)),
        size=(len(graph), len(small)),
    )
    used, said = verdict_of(made, float(np.percentile(ratios, 25)))
    made = made.model_copy(update={"used": used, "said": said})
    set_value_ranges(bundle, ranges if used else {}, weights)
    with sessions.begin() as session:
        keep_eight_bits(session, run_id, made)
    return made


@dataclass(frozen=True)
class _Compared:
    """A figure in 32 and in 8 bits, and the range in which the change lies."""

    figures: tuple[float | None, float | None]
    change: tuple[float | None, float | None]
    more_than_chance: bool


def _compared(first: MatchedPictures, second: MatchedPictures) -> tuple[_Compared, _Compared]:
    """mAP at 0.50:0.95 and at 0.5, as `avocet.core.score.chance.paired.difference` compares two detectors."""
    one, two = (resample(each, np.random.default_rng(RESAMPLING_SEED)) for each in (first, second))
    swapped = swap(first, second, np.random.default_rng(RESAMPLING_SEED))
    made = []
    for level in (None, 0):
        found = difference(one, two, swapped, level)
        figures, change = (one.figure(level), two.figure(level)), (found.low, found.high)
        made.append(_Compared(_known(figures), _known(change), found.more_than_chance))
    return made[0], made[1]


def _known(pair: tuple[float, float]) -> tuple[float | None, float | None]:
    one, other = (None if np.isnan(value) else float(value) for value in pair)
    return one, other


def verdict_of(tried: EightBitsTried, surely: float) -> tuple[bool, str]:
    """Whether 8 bits serve, and why.

    They do not where mAP at 0.50:0.95 falls by more than `PRECISE`, or mAP at 0.5, which wavers more on few pictures,
    by more than that and by more than chance.

    Parameters
    ----------
    tried : EightBitsTried
    surely : float
        How many times as quick they are in three of four pairs.

    Examples
    --------
    >>> tried = EightBitsTried(
    ...     used=False, said="", pictures=19, map=(0.880, 0.878), map50=(0.960, 0.920), times=1.8,
    ...     map_change=(-0.010, 0.004), map50_change=(-0.090, 0.012),
    ... )
    >>> verdict_of(tried, 1.7)[1]
    '8 bits are used: 1.8 times as quick. mAP 0.002 less (−0.010 to +0.004), at 0.5 0.040 less (−0.090 to +0.012): on 19 pictures that may be chance'
    >>> verdict_of(tried.model_copy(update={"more_than_chance": (False, True)}), 1.7)
    (False, '8 bits are not used: mAP at 0.5 is 0.040 less, by more than chance')
    >>> verdict_of(tried.model_copy(update={"map": (0.88, 0.85)}), 1.7)
    (False, '8 bits are not used: mAP is 0.030 less, more than 0.005')
    >>> verdict_of(tried, 0.9)
    (False, '8 bits are not used: they are not surely quicker on this machine')
    """
    if None in (*tried.map, *tried.map50):
        return False, "8 bits are not used: the validation pictures have no boxes to measure on"
    lost, lost_at_half = _lost(tried.map), _lost(tried.map50)
    if lost > PRECISE:
        return False, f"8 bits are not used: mAP is {lost:.3f} less, more than {PRECISE}"
    if lost_at_half > PRECISE and tried.more_than_chance[1]:
        return False, f"8 bits are not used: mAP at 0.5 is {lost_at_half:.3f} less, by more than chance"
    if surely < QUICKER:
        return False, "8 bits are not used: they are not surely quicker on this machine"
    told = f"mAP {_change(lost, tried.map_change)}, at 0.5 {_change(lost_at_half, tried.map50_change)}"
    few = f": on {so_many(tried.pictures, 'picture')} that may be chance" if lost_at_half > PRECISE else ""
    return True, f"8 bits are used: {tried.times:.1f} times as quick. {told}{few}"


def _lost(pair: tuple[float | None, float | None]) -> float:
    return (pair[0] or 0.0) - (pair[1] or 0.0)


def _change(lost: float, bounds: tuple[float | None, float | None]) -> str:
    """A change and the range in which it lies."""
    change = f"{abs(lost):.3f} {'less' if lost > 0 else 'more'}" if abs(lost) >= 0.0005 else "the same"
    if bounds[0] is None or bounds[1] is None:
        return change
    return f"{change} ({signed(bounds[0])} to {signed(bounds[1])})"


def _inputs(predictor: Predictor, pictures: Sequence[LabelledPicture]) -> Iterator[NDArray[np.uint8]]:
    places = np.linspace(0, len(pictures) - 1, min(LEARNT_FROM, len(pictures))).round().astype(int)
    for place in places.tolist():
        yield predictor.input_of(pictures[place].read())[None]


def _side_by_side(
    usual: Predictor, tried: Predictor, pictures: Sequence[LabelledPicture]
) -> tuple[tuple[float, float], list[float]]:
    """Milliseconds of a picture by itself either way, and how many times as quick the second is, pair by pair.

    In pairs, as whatever else the machine does slows both of a pair.
    """
    inputs = [usual.input_of(each.read())[None] for each in pictures[:TIMED_PICTURES]]
    times = np.zeros((PAIRS, 2))
    for number in range(-2, PAIRS):
        for place, each in enumerate((usual, tried)):
            begun = time.perf_counter()
            each.raw(inputs[number % len(inputs)])
            # The first ones only warm up.
            times[number, place] = time.perf_counter() - begun
    before, after = 1000 * np.median(times, axis=0)
    return (float(before), float(after)), (times[:, 0] / times[:, 1]).tolist()


class _Told:
    """Tells several passes over pictures as one piece of work."""

    def __init__(self, reporter: Reporter, total: int) -> None:
        self._reporter, self._total, self._before = reporter, total, 0

    def through(self, pictures: int) -> None:
        """A pass is over."""
        self._before += pictures

    def each(self, items: Iterator[NDArray[np.uint8]]) -> Iterator[NDArray[np.uint8]]:
        for item in items:
            if self.should_stop():
                raise Stopped
            yield item
            self.through(1)
            self.progress(0, 0)

    def progress(self, done: int, total: int, message: str = "") -> None:
        done += self._before
        self._reporter.progress(done, self._total, f"{done} of {self._total} looks at pictures")

    def should_stop(self) -> bool:
        return self._reporter.should_stop()
