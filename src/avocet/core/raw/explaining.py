"""How raw outputs became boxes: the fate of every candidate, and the arithmetic of one."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array, as_boxes, clip, iou
from avocet.core.logistic import sigmoid
from avocet.core.raw.candidates import MOST_CANDIDATES, InPicture, ScoreChange, in_picture
from avocet.core.raw.decode import LARGEST_LOG_SIZE, Decoded
from avocet.core.raw.letterbox import Letterbox
from avocet.core.raw.soft_suppression import SIGMA
from avocet.core.raw.suppressing import Method, thin_out

STEPS = ("below the minimum score", "outside of the picture", "not among the best", "dropped", "kept")
BELOW, OUTSIDE, BEYOND, DROPPED, KEPT = range(len(STEPS))


@dataclass(frozen=True)
class Fates:
    """What became of every decoded box of one picture.

    Attributes
    ----------
    decoded : Decoded
    placed : InPicture
    step : (N,) ndarray of int64
        Place in `STEPS` of the step that ended it.
    score : (N,) ndarray of float64
        After suppression; lower than before only where suppression is soft.
    suppressor : (N,) ndarray of int64
        The box that dropped it or took most of its score, or -1.
    overlap : (N,) ndarray of float64
        IoU with that box.
    """

    decoded: Decoded
    placed: InPicture
    step: NDArray[np.int64]
    score: Array
    suppressor: NDArray[np.int64]
    overlap: Array

    def funnel(self) -> list[int]:
        """Boxes in all, above the minimum score and in the picture, among the best, and kept."""
        passed = [int((self.step >= step).sum()) for step in (BELOW, BEYOND, DROPPED, KEPT)]
        return passed

    def kept(self) -> NDArray[np.int64]:
        """Kept boxes, best score first."""
        there = np.flatnonzero(self.step == KEPT)
        return there[np.argsort(-self.score[there], kind="stable")]


def follow(
    decoded: Decoded,
    box: Letterbox,
    width: int,
    height: int,
    minimum_score: float,
    overlap_limit: float,
    method: Method = "by class",
    sigma: float = SIGMA,
    most: int = MOST_CANDIDATES,
    calibrated: ScoreChange | None = None,
) -> Fates:
    """Follow every decoded box through score, number and suppression.

    Parameters
    ----------
    decoded : Decoded
    box : Letterbox
        How the picture lay in the input.
    width, height : int
        Size of the original picture in pixels.
    minimum_score, overlap_limit : float
    method : {'by class', 'across classes', 'linear', 'gaussian'}
        Greedy suppression of each class for itself or of all together, or soft suppression of
        each class; soft suppression drops what it lowers under the minimum score.
    sigma : float
        Width of the Gaussian.
    most : int
        Candidates that suppression looks at.
    calibrated : callable, optional
        Maps scores to calibrated ones, in the same order.

    Returns
    -------
    Fates

    Raises
    ------
    ValueError
        If the method is unknown.

    Examples
    --------
    Two anchors of one cell answer with the same box; one is kept:

    >>> from avocet.core.raw.decode import decode
    >>> from avocet.core.raw.letterbox import letterbox
    >>> decoded = decode([np.zeros((2, 6, 1, 1))], [[[16, 8], [16, 8]]], [32])
    >>> fates = follow(decoded, letterbox(64, 64, 32), 64, 64, 0.2, 0.5)
    >>> fates.funnel(), fates.suppressor.tolist()
    ([2, 2, 2, 1], [-1, 0])
    """
    placed = in_picture(decoded, box, width, height, minimum_score, most, calibrated)
    step = np.where(placed.high_enough, np.where(placed.visible, BEYOND, OUTSIDE), BELOW).astype(np.int64)
    score = placed.scores.copy()
    suppressor, overlap = np.full(len(step), -1, dtype=np.int64), np.zeros(len(step))
    chosen, candidates = placed.chosen, placed.candidates
    step[chosen] = DROPPED
    made = thin_out(
        candidates.boxes, candidates.scores, candidates.classes, method, overlap_limit, minimum_score, sigma
    )
    score[chosen] = made.scores
    step[chosen[made.kept]] = KEPT
    by, shared = made.suppressor, made.overlap
    had = by >= 0
    suppressor[chosen[had]], overlap[chosen[had]] = chosen[by[had]], shared[had]
    return Fates(decoded, placed, step, score, suppressor, overlap)


def near_truth(
    fates: Fates, truth: ArrayLike, count: int = 5, least_overlap: float = 0.1
) -> NDArray[np.int64]:
    """The boxes that came nearest to a truth, by IoU times score.

    Parameters
    ----------
    fates : Fates
    truth : (4,) array_like
        In pixels of the picture.
    count : int
    least_overlap : float
        IoU.

    Returns
    -------
    (M,) ndarray of int64
        Best first.
    """
    overlaps = iou(fates.placed.boxes, as_boxes([np.asarray(truth, np.float64).reshape(-1)]))[:, 0]
    worth = np.where(overlaps >= least_overlap, overlaps * fates.placed.scores, -1.0)
    best = np.argsort(-worth, kind="stable")[:count]
    return best[worth[best] >= 0]


@dataclass(frozen=True)
class Arithmetic:
    """Every number on the way from raw outputs to a box.

    Attributes
    ----------
    raw : tuple of float
        t_x, t_y, t_w, t_h, t_o.
    logits : tuple of float
    cell : tuple of int
        Column and row.
    stride : int
        Input pixels for one cell.
    reach : float
    anchor : tuple of float
        Width and height in input pixels.
    sigmoid : tuple of float
        σ(t_x), σ(t_y), σ(t_o).
    centre_cells : tuple of float
        Centre in cells.
    centre, size : tuple of float
        In input pixels.
    in_input, unclipped, in_picture : tuple of float
        Corners in the input, in the picture, and cut to the picture.
    scale, offset : tuple of float
        Of the letterbox: input pixels for one of the picture, and its padding in input pixels.
    probabilities : tuple of float
        By class.
    best : int
        The likeliest class.
    product : float
        Objectness times the likeliest class's probability.
    score : float
        The same, or what calibration makes of it.
    """

    raw: tuple[float, ...]
    logits: tuple[float, ...]
    cell: tuple[int, int]
    stride: int
    reach: float
    anchor: tuple[float, ...]
    sigmoid: tuple[float, ...]
    centre_cells: tuple[float, ...]
    centre: tuple[float, ...]
    size: tuple[float, ...]
    in_input: tuple[float, ...]
    unclipped: tuple[float, ...]
    in_picture: tuple[float, ...]
    scale: tuple[float, float]
    offset: tuple[float, float]
    probabilities: tuple[float, ...]
    best: int
    product: float
    score: float


def work_out(
    raw: ArrayLike,
    row: int,
    column: int,
    anchor: ArrayLike,
    stride: int,
    reach: float,
    box: Letterbox,
    width: int,
    height: int,
    calibrated: ScoreChange | None = None,
) -> Arithmetic:
    """Decode one cell and anchor and keep every number on the way.

    Parameters
    ----------
    raw : (5 + C,) array_like
        t_x, t_y, t_w, t_h, t_o and class logits.
    row, column : int
        The cell.
    anchor : (2,) array_like
        Width and height in input pixels.
    stride : int
    reach : float
        As in `avocet.core.raw.decode.decode`.
    box : Letterbox
    width, height : int
        Size of the original picture in pixels.
    calibrated : callable, optional
        Maps scores to calibrated ones.

    Returns
    -------
    Arithmetic

    Examples
    --------
    >>> from avocet.core.raw.letterbox import letterbox
    >>> made = work_out(np.zeros(6), 0, 1, [16, 8], 32, 2.0, letterbox(128, 128, 64), 128, 128)
    >>> made.centre, made.size, made.in_picture, made.score
    ((48.0, 16.0), (16.0, 8.0), (80.0, 24.0, 112.0, 40.0), 0.25)
    """
    values, sizes = np.asarray(raw, np.float64).reshape(-1), np.asarray(anchor, np.float64).reshape(2)
    squashed = sigmoid(values[[0, 1, 4]])
    cells = np.array([column, row]) + 0.5 + reach * (squashed[:2] - 0.5)
    centre = cells * stride
    size = sizes * np.exp(np.minimum(values[2:4], LARGEST_LOG_SIZE))
    in_input = np.concatenate([centre - size / 2, centre + size / 2])
    unclipped = box.to_picture([in_input])
    probabilities = sigmoid(values[5:])
    best = int(probabilities.argmax())
    product = float(squashed[2] * probabilities[best])

    def plain(numbers: Array) -> tuple[float, ...]:
        return tuple(float(number) for number in np.asarray(numbers).reshape(-1))

    return Arithmetic(
        raw=plain(values[:5]), logits=plain(values[5:]), cell=(column, row), stride=stride, reach=reach,
        anchor=plain(sizes), sigmoid=plain(squashed), centre_cells=plain(cells), centre=plain(centre),
        size=plain(size), in_input=plain(in_input), unclipped=plain(unclipped),
        in_picture=plain(clip(unclipped, width, height)), scale=(box.scale_x, box.scale_y),
        offset=(float(box.left), float(box.top)), probabilities=plain(probabilities), best=best,
        product=product, score=product if calibrated is None else float(calibrated(np.array([product]))[0]),
    )  # fmt: skip
