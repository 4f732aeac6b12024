"""A run's model in 8 bits: tried on its validation pictures, used where it is quicker here and as precise."""

import time
from collections.abc import Iterator, Sequence

import numpy as np
import onnx
from numpy.typing import NDArray

from avocet.core.errors import InputError
from avocet.core.raw.candidates import OVERLAP_LIMIT
from avocet.core.score.measurement import AREA_BOUNDS
from avocet.detector.engines.eight_bits import value_ranges
from avocet.detector.engines.onnx_engine import OnnxEngine
from avocet.detector.engines.opening import ONNX_RUNTIME, eight_bit_bytes, engine_taken, graph_bytes
from avocet.detector.model.card import read_bundle_parts
from avocet.detector.model.predictor import Predictor
from avocet.detector.pictures.labelled import LabelledPicture
from avocet.store.database import Sessions, reading
from avocet.store.folder import DataFolder
from avocet.store.tables import Part
from avocet.work.job_givens import ForRun
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import EightBitsTried
from avocet.work.judge.report import find_candidates, measure
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
    reports = []
    for each in (usual, tried):
        found = find_candidates(each, validation, told)
        reports.append(
            measure(
                card.classes, truths, found, OVERLAP_LIMIT, "101-point", AREA_BOUNDS, card.minimum_score,
                card.score_map,
            )
        )  # fmt: skip
        told.through(len(validation))
    milliseconds, ratios = _side_by_side(usual, tried, validation)
    made = EightBitsTried(
        used=False,
        said="",
        pictures=len(validation),
        map=(reports[0]["map"], reports[1]["map"]),
        map50=(reports[0]["map50"], reports[1]["map50"]),
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


def verdict_of(tried: EightBitsTried, surely: float) -> tuple[bool, str]:
    """Whether 8 bits serve, and why.

    Parameters
    ----------
    tried : EightBitsTried
    surely : float
        How many times as quick they are in three of four pairs.

    Examples
    --------
    >>> tried = EightBitsTried(used=False, said="", map=(0.880, 0.878), times=1.8)
    >>> verdict_of(tried, 1.7)
    (True, '8 bits are used: 1.8 times as quick, mAP 0.002 less')
    >>> verdict_of(tried.model_copy(update={"map": (0.88, 0.85)}), 1.7)
    (False, '8 bits are not used: mAP is 0.030 less, more than 0.005')
    >>> verdict_of(tried, 0.9)
    (False, '8 bits are not used: they are not surely quicker on this machine')
    """
    before, after = tried.map
    if before is None or after is None:
        return False, "8 bits are not used: the validation pictures have no boxes to measure on"
    lost = before - after
    if lost > PRECISE:
        return False, f"8 bits are not used: mAP is {lost:.3f} less, more than {PRECISE}"
    if surely < QUICKER:
        return False, "8 bits are not used: they are not surely quicker on this machine"
    change = (
        f"mAP {abs(lost):.3f} {'less' if lost > 0 else 'more'}" if abs(lost) >= 0.0005 else "the same mAP"
    )
    return True, f"8 bits are used: {tried.times:.1f} times as quick, {change}"


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
