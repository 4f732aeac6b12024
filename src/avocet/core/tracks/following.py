"""Following one object from frame to frame by what it looks like: a correlation filter with adaptation of scale."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from avocet.core.boxes import Array, clip

CELL = 4
"""Pixels of the patch to a cell of features, in both directions."""

LONGER = 120
"""Longer side of the patch in its own pixels, about; a multiple of `CELL`."""

AROUND = 2.4
"""Sides of the patch in sides of the box: what lies around it tells where it ends."""

ORIENTATIONS = 9

BLUR = 0.085
"""Width of the wanted answer, in parts of the box's side in cells."""

RIDGE = 1e-3
"""Keeps frequencies that the object does not have from deciding anything."""

LEARNT = 0.03
"""How much of the filter is what the newest frame showed."""

FROM_THE_FIRST = 0.35
"""How much of it stays what the set box showed, so that the filter does not slip off bit by bit."""

STEP_OF_SCALE = 1.04
SCALES = np.array([1 / STEP_OF_SCALE, 1.0, STEP_OF_SCALE])

TAKEN_OVER = 0.5
"""How much of a change of scale is believed at once."""

STEADY = 0.5
"""Share of the newest motion in what is foreseen."""

LOST = 0.22
"""An answer lower than this, in parts of what a perfect match gives, is no answer."""

UNSURE = 0.4
"""What is followed with less certainty is for a person to look at."""

PATIENCE = 12
"""Frames without an answer after which the object is given up."""

LEAST_SHARE = 0.5
"""Of what is cut by the edge more than that, it is not made up for that only a part answers."""

GONE = 0.25
"""It has left the picture when less of it than this is within."""


@dataclass(frozen=True)
class Followed:
    """Where the object is on one frame.

    Attributes
    ----------
    box : (4,) ndarray of float64
        Cut to the picture, in its pixels.
    sureness : float
        From 0 to 1. Below `UNSURE` a person should look.
    seen : bool
        False where there was no answer: the box is only foreseen.
    """

    box: Array
    sureness: float
    seen: bool


class Follower:
    """Follows what a box holds through the frames that come after it, or before it.

    A filter is learnt so that its correlation with the features around the box has its peak in the middle of
    the box (Bolme et al., 2010, for many channels of features; Henriques et al., 2015), in the Fourier domain.
    On each frame the place of the highest answer near the foreseen place is the object's; the box follows in
    scale where a slightly larger or smaller patch answers better (Danelljan et al., 2014). The features are
    gradients by orientation, made independent of local contrast (Dalal and Triggs, 2005), and colours.

    Parameters
    ----------
    pixels : (H, W, 3) ndarray of uint8
        The frame on which the box was set.
    box : (4,) array_like
        ``[x1, y1, x2, y2]`` in its pixels.

    Raises
    ------
    ValueError
        If the box has no area within the frame.

    Examples
    --------
    >>> scene = np.random.default_rng(0).integers(0, 255, (90, 120, 3)).astype(np.uint8)
    >>> follower = Follower(scene, [40, 30, 70, 60])
    >>> follower.step(np.roll(scene, (2, 3), axis=(0, 1))).box.round().tolist()
    [43.0, 32.0, 73.0, 62.0]
    """

    def __init__(self, pixels: NDArray[np.uint8], box: ArrayLike) -> None:
        height, width = pixels.shape[:2]
        set_box = np.asarray(box, dtype=np.float64)
        first = clip(set_box[None], width, height)[0]
        self._size = first[2:] - first[:2]
        if (self._size <= 0).any():
            raise ValueError(f"the box {set_box.tolist()} has no area within the frame")
        self._middle, self._scale = (first[:2] + first[2:]) / 2, 1.0
        self._motion: Array | None = None
        window = AROUND * self._size
        cells = np.maximum(np.round(LONGER / CELL * window / window.max()), 8).astype(int)
        # The patch is given in rows and columns, boxes in x and y.
        self._cells = (int(cells[1]), int(cells[0]))
        self._pitch = window / cells
        rows, columns = (np.fft.fftfreq(count, 1 / count) for count in self._cells)
        blur = BLUR * np.sqrt(np.prod(self._size / self._pitch))
        wanted = np.exp(-(rows[:, None] ** 2 + columns[None] ** 2) / (2 * blur**2))
        self._wanted = scipy.fft.rfft2(wanted)[..., None]
        self._taper = np.outer(*(np.hanning(count + 2)[1:-1] for count in self._cells))[..., None]
        own = np.ceil(self._size[::-1] / self._pitch[::-1] / 2)
        self._elsewhere = (np.abs(rows)[:, None] > own[0]) | (np.abs(columns)[None] > own[1])
        above, below = self._learn(pixels)
        self._first = self._running = (above, below)
        self._perfect = float(self._answer(self._spectra(pixels, [1.0]))[0].max())
        self._silent = 0

    @property
    def whole(self) -> Array:
        """The box, also where it reaches over the edge of the picture."""
        half = self._size * self._scale / 2
        return np.concatenate([self._middle - half, self._middle + half])

    @property
    def lost(self) -> bool:
        """Whether it was not seen for so long that it is given up."""
        return self._silent > PATIENCE

    def left(self, width: int, height: int) -> bool:
        """Whether hardly anything of it is within a picture of a size any more."""
        return self._share_within(width, height) < GONE

    def _share_within(self, width: int, height: int) -> float:
        """How much of it is within a picture of a size."""
        inside = clip([self.whole], width, height)[0]
        return float(np.prod(inside[2:] - inside[:2]) / np.prod(self._size * self._scale))

    def step(self, pixels: NDArray[np.uint8]) -> Followed:
        """Take the next frame.

        Parameters
        ----------
        pixels : (H, W, 3) ndarray of uint8

        Returns
        -------
        Followed
        """
        before = self._middle
        if self._motion is not None:
            self._middle = before + self._motion
        spectra = self._spectra(pixels, self._scale * SCALES)
        answers = self._answer(spectra)
        peaks = answers.reshape(len(SCALES), -1).max(axis=1)
        best = int(peaks.argmax())
        answer = answers[best]
        height = float(answer.max()) / self._perfect
        rival = float(answer[self._elsewhere].max(initial=0.0)) / max(float(answer.max()), 1e-9)
        seen = height >= LOST
        # Of what is cut by the edge of the picture only a part can answer; of very little of it nobody is sure.
        share = self._share_within(pixels.shape[1], pixels.shape[0])
        height /= share if share >= LEAST_SHARE else 1
        sureness = float(np.clip(height, 0, 1) * (1 - np.clip(2 * rival - 1, 0, 1)))
        if seen:
            moved = _peak(answer)[::-1] * self._pitch * self._scale * SCALES[best]
            self._middle = self._middle + moved
            self._scale *= STEP_OF_SCALE ** (TAKEN_OVER * np.clip(_between(*peaks.tolist()), -1, 1))
            motion = self._middle - before
            steady = STEADY if self._motion is not None else 1.0
            self._motion = steady * motion + (1 - steady) * (
                self._motion if self._motion is not None else 0.0
            )
            self._silent = 0
            if sureness >= UNSURE:
                above, below = self._learn(pixels)
                self._running = (
                    (1 - LEARNT) * self._running[0] + LEARNT * above,
                    (1 - LEARNT) * self._running[1] + LEARNT * below,
                )
        else:
            self._silent += 1
        rows, columns = pixels.shape[:2]
        return Followed(clip([self.whole], columns, rows)[0], sureness if seen else 0.0, seen)

    def _learn(self, pixels: NDArray[np.uint8]) -> tuple[NDArray[np.complex64], NDArray[np.float32]]:
        """Both halves of the filter that this frame alone would give."""
        spectrum = self._spectra(pixels, [self._scale])[0]
        return self._wanted * spectrum.conj(), np.sum(np.abs(spectrum) ** 2, axis=-1, keepdims=True)

    def _answer(self, spectra: NDArray[np.complex64]) -> NDArray[np.float32]:
        """How well each place of each patch answers; the first is its middle."""
        above = FROM_THE_FIRST * self._first[0] + (1 - FROM_THE_FIRST) * self._running[0]
        below = FROM_THE_FIRST * self._first[1] + (1 - FROM_THE_FIRST) * self._running[1]
        ridge = RIDGE * float(below.mean())
        return np.asarray(
            scipy.fft.irfft2((spectra * above / (below + ridge)).sum(axis=-1), s=self._cells, axes=(1, 2))
        )

    def _spectra(self, pixels: NDArray[np.uint8], scales: ArrayLike) -> NDArray[np.complex64]:
        """Features around the present place at several scales, (S, rows, columns, channels), transformed."""
        patches = [
            _features(
                _patch(pixels, self._middle, self._pitch * scale / CELL, self._cells)
            ) * self._taper
            for scale in np.asarray(scales)
        ]  # fmt: skip
        return np.asarray(scipy.fft.rfft2(np.stack(patches).astype(np.float32), axes=(1, 2)))


def follow_object(frames: Iterable[NDArray[np.uint8]], box: ArrayLike) -> Iterator[Followed]:
    """Follow a box through frames until it is lost or leaves the picture.

    Parameters
    ----------
    frames : iterable of (H, W, 3) ndarray of uint8
        The first is the one on which the box was set; in the order in which it is followed.
    box : (4,) array_like

    Yields
    ------
    Followed
        For every frame after the first. The last ones may be unseen: it was waited for.
    """
    follower: Follower | None = None
    for pixels in frames:
        if follower is None:
            follower = Follower(pixels, box)
            continue
        found = follower.step(pixels)
        if follower.left(pixels.shape[1], pixels.shape[0]):
            return
        yield found
        if follower.lost:
            return


def _patch(
    pixels: NDArray[np.uint8], middle: Array, pitch: Array, cells: tuple[int, int]
) -> NDArray[np.float32]:
    """The part around a point in so many cells, (rows, columns, 3); beyond the edge the edge goes on.

    ``pitch`` is how many pixels of the picture make one of the patch, across and down.
    """
    down = [_weights(middle[1], pitch[1], cells[0] * CELL, pixels.shape[0])]
    across = [_weights(middle[0], pitch[0], cells[1] * CELL, pixels.shape[1])]
    (top, bottom, low), (left, right, part) = down[0], across[0]
    r0, c0 = int(top.min()), int(left.min())
    block = pixels[r0 : int(bottom.max()) + 1, c0 : int(right.max()) + 1].astype(np.float32)
    rows = block[top - r0] * (1 - low)[:, None, None] + block[bottom - r0] * low[:, None, None]
    return np.asarray(
        rows[:, left - c0] * (1 - part)[None, :, None] + rows[:, right - c0] * part[None, :, None]
    )


def _weights(
    middle: float, pitch: float, count: int, limit: int
) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.float32]]:
    """Between which two rows (or columns) each one of a patch lies, and how near to the second."""
    place = np.clip(middle + (np.arange(count) - (count - 1) / 2) * pitch - 0.5, 0, limit - 1)
    first = np.floor(place).astype(np.int64)
    return first, np.minimum(first + 1, limit - 1), (place - first).astype(np.float32)


def _features(patch: NDArray[np.float32]) -> NDArray[np.float32]:
    """Gradients by orientation and colours of each cell, (rows, columns, 12)."""
    rows, columns = patch.shape[0] // CELL, patch.shape[1] // CELL
    grey = patch.mean(axis=2)
    across, down = np.zeros_like(grey), np.zeros_like(grey)
    across[:, 1:-1] = grey[:, 2:] - grey[:, :-2]
    down[1:-1] = grey[2:] - grey[:-2]
    strength = np.hypot(across, down)
    turn = np.arctan2(down, across) % np.pi * (ORIENTATIONS / np.pi)
    nearest = np.floor(turn)
    share = turn - nearest
    first = nearest.astype(np.int64) % ORIENTATIONS
    cell = (np.arange(patch.shape[0]) // CELL)[:, None] * columns + np.arange(patch.shape[1]) // CELL
    size = rows * columns * ORIENTATIONS
    own = np.bincount((cell * ORIENTATIONS + first).ravel(), ((1 - share) * strength).ravel(), size)
    next_one = np.bincount(
        (cell * ORIENTATIONS + (first + 1) % ORIENTATIONS).ravel(), (share * strength).ravel(), size
    )
    turned = (own + next_one).reshape(rows, columns, ORIENTATIONS)
    energy = np.sqrt((turned**2).sum(axis=2))
    turned = np.minimum(turned / (_around(energy) + 20.0)[..., None], 0.5)
    colours = patch.reshape(rows, CELL, columns, CELL, 3).mean(axis=(1, 3)) / 255
    return np.concatenate([turned, colours - colours.mean(axis=(0, 1))], axis=2)


def _around(values: Array) -> Array:
    """The mean of each cell and the eight around it."""
    padded = np.pad(values, 1, mode="edge")
    down = padded[:-2] + padded[1:-1] + padded[2:]
    return np.asarray((down[:, :-2] + down[:, 1:-1] + down[:, 2:]) / 9)


def _between(before: float, at: float, after: float) -> float:
    """Where, between three neighbours, the parabola through them has its highest place; 0 where it has none."""
    bend = before - 2 * at + after
    return 0.0 if bend >= 0 else 0.5 * (before - after) / bend


def _peak(answer: NDArray[np.float32]) -> Array:
    """Where the answer is highest, in rows and columns from the middle, between cells by a parabola."""
    rows, columns = answer.shape
    row, column = np.unravel_index(int(answer.argmax()), answer.shape)

    down = _between(
        float(answer[row - 1, column]), float(answer[row, column]), float(answer[(row + 1) % rows, column])
    )
    across = _between(
        float(answer[row, column - 1]), float(answer[row, column]), float(answer[row, (column + 1) % columns])
    )
    at = np.array([row + down, column + across])
    return np.where(at > np.array([rows, columns]) / 2, at - [rows, columns], at)
