"""Where a picture lies inside the network's input: scaled to fit, centred, padded."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from avocet.core.boxes import Array, as_boxes


@dataclass(frozen=True)
class Letterbox:
    """Scale and offset that lay a picture into an input, and boxes with it.

    Attributes
    ----------
    scale_x, scale_y : float
        Input pixels for one picture pixel; equal up to rounding to whole input pixels.
    left, top : int
        Padding in input pixels.
    width, height : int
        Size of the scaled picture in input pixels.
    input_width, input_height : int
        Size of the whole input in pixels.
    """

    scale_x: float
    scale_y: float
    left: int
    top: int
    width: int
    height: int
    input_width: int
    input_height: int

    def to_input(self, boxes: ArrayLike) -> Array:
        """Boxes of the original picture in input pixels, shape (N, 4)."""
        return as_boxes(boxes) * self._scale + self._offset

    def to_picture(self, boxes: ArrayLike) -> Array:
        """Boxes of the input in pixels of the original picture, shape (N, 4)."""
        return (as_boxes(boxes) - self._offset) / self._scale

    @property
    def _scale(self) -> Array:
        return np.array([self.scale_x, self.scale_y] * 2)

    @property
    def _offset(self) -> Array:
        return np.array([self.left, self.top] * 2, dtype=np.float64)


def letterbox(width: int, height: int, side: int, multiple: int = 32, square: bool = False) -> Letterbox:
    """Fit a picture into an input whose longer side is ``side``.

    The shorter side is padded up to the next ``multiple``, so that a wide picture costs less
    than a square one. This is the only place where the product decides it: training,
    evaluation, detection and export all come here.

    Parameters
    ----------
    width, height : int
        Size of the original picture in pixels.
    side : int
        Longer side of the input in pixels, a multiple of ``multiple``.
    multiple : int
        The largest stride of the network.
    square : bool
        Pad to ``side`` by ``side`` instead.

    Returns
    -------
    Letterbox

    Raises
    ------
    ValueError
        If a size is not positive or ``side`` is not a multiple of ``multiple``.

    Examples
    --------
    >>> box = letterbox(960, 540, 416)
    >>> box.input_width, box.input_height, box.top
    (416, 256, 11)
    >>> box.to_picture(box.to_input([[0, 0, 960, 540]]))
    array([[  0.,   0., 960., 540.]])
    """
    if width < 1 or height < 1:
        raise ValueError(f"a picture of {width}×{height} pixels cannot be fitted into an input")
    if side < multiple or side % multiple:
        raise ValueError(f"input side {side} is not a multiple of {multiple}")
    scale = side / max(width, height)
    fitted_width = min(side, max(1, round(width * scale)))
    fitted_height = min(side, max(1, round(height * scale)))
    input_width = side if square else -(-fitted_width // multiple) * multiple
    input_height = side if square else -(-fitted_height // multiple) * multiple
    return Letterbox(
        scale_x=fitted_width / width,
        scale_y=fitted_height / height,
        left=(input_width - fitted_width) // 2,
        top=(input_height - fitted_height) // 2,
        width=fitted_width,
        height=fitted_height,
        input_width=input_width,
        input_height=input_height,
    )
