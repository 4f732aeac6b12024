"""The loss: complete IoU for boxes, binary cross-entropy for objectness and classes."""

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
import torch
from torch import Tensor
from torch.nn.functional import binary_cross_entropy_with_logits

from avocet.core.boxes import Array
from avocet.core.raw.decode import LARGEST_LOG_SIZE
from avocet.detector.targets.assignment import assign


@dataclass(frozen=True)
class LossWeights:
    """How much each part of the loss counts."""

    box: float = 4.0
    objectness: float = 1.0
    classes: float = 1.0


@dataclass(frozen=True)
class Truths:
    """Truths of one batch.

    Attributes
    ----------
    pictures : (M,) ndarray of int64
        Which picture of the batch each is in.
    boxes : (M, 4) ndarray of float64
        ``[x1, y1, x2, y2]`` in input pixels.
    classes : (M,) ndarray of int64
    ignored : (M,) ndarray of bool
        Regions in which nothing is learnt, such as crowds.
    """

    pictures: np.ndarray
    boxes: Array
    classes: np.ndarray
    ignored: np.ndarray


@dataclass(frozen=True)
class Losses:
    """Loss of one batch by part, each already weighted and divided by the positives."""

    box: Tensor
    objectness: Tensor
    classes: Tensor

    @property
    def total(self) -> Tensor:
        return self.box + self.objectness + self.classes


def detection_loss(
    outputs: Sequence[Tensor],
    truths: Truths,
    anchors: Sequence[Array],
    strides: Sequence[int],
    reach: float,
    weights: LossWeights | None = None,
    of_all: Callable[[int], float] = float,
) -> Losses:
    """Loss of raw outputs against truths.

    Each part is summed over the batch and divided by the number of positives. A positive's
    objectness should be the IoU of its box (Redmon et al., 2016), so that better placed boxes score
    higher.

    Parameters
    ----------
    outputs : sequence of (B, A, 5 + C, H, W) tensors
    truths : Truths
    anchors : sequence of (A, 2) ndarray
        Level by level; a level without any is not used.
    strides : sequence of int
    reach : float
        As in `avocet.core.raw.decode.decode`.
    weights : LossWeights, optional
    of_all : callable
        Makes the positives of these pictures those of the whole batch, where these are only a part of it.

    Returns
    -------
    Losses
    """
    weights = weights or LossWeights()
    counted = ~truths.ignored
    levels = assign(
        truths.pictures[counted],
        truths.boxes[counted],
        truths.classes[counted],
        anchors,
        strides,
        [(raw.shape[-2], raw.shape[-1]) for raw in outputs],
    )
    positives = max(1.0, of_all(sum(len(level.row) for level in levels)))
    zero = outputs[0].sum() * 0.0
    box_loss, object_loss, class_loss = zero, zero, zero
    for raw, targets, sizes, stride in zip(outputs, levels, anchors, strides, strict=True):
        objectness = raw[:, :, 4]
        wanted = torch.zeros_like(objectness)
        if len(targets.row):
            place = tuple(
                torch.from_numpy(index).to(raw.device)
                for index in (targets.picture, targets.anchor, targets.row, targets.column)
            )
            picture, anchor, row, column = place
            values = raw.permute(0, 1, 3, 4, 2)[picture, anchor, row, column]
            cell = torch.stack([column, row], dim=1) + 0.5
            centre = (cell + reach * (values[:, 0:2].sigmoid() - 0.5)) * stride
            base = torch.as_tensor(sizes, dtype=raw.dtype, device=raw.device)[anchor]
            size = base * values[:, 2:4].clamp(max=LARGEST_LOG_SIZE).exp()
            real = torch.as_tensor(targets.boxes, dtype=raw.dtype, device=raw.device)
            overlap, complete = complete_iou(torch.cat([centre, size], dim=1), real)
            box_loss = box_loss + (1 - complete).sum()
            wanted[picture, anchor, row, column] = overlap.detach().clamp(min=0)
            one_hot = torch.zeros_like(values[:, 5:])
            one_hot[torch.arange(len(row)), torch.from_numpy(targets.classes).to(raw.device)] = 1
            class_loss = class_loss + binary_cross_entropy_with_logits(
                values[:, 5:], one_hot, reduction="sum"
            )
        per_cell = binary_cross_entropy_with_logits(objectness, wanted, reduction="none")
        if truths.ignored.any():
            per_cell = per_cell * _outside_ignored(truths, objectness, stride)
        object_loss = object_loss + per_cell.sum()
    return Losses(
        weights.box * box_loss / positives,
        weights.objectness * object_loss / positives,
        weights.classes * class_loss / positives,
    )


def complete_iou(first: Tensor, second: Tensor) -> tuple[Tensor, Tensor]:
    """IoU and complete IoU (Zheng et al., 2020) of pairs of boxes.

    Parameters
    ----------
    first, second : (P, 4) tensors
        Centre and size.

    Returns
    -------
    overlap, complete : (P,) tensors
        Complete IoU is IoU less the squared distance of the centres in units of the common
        hull's diagonal, less a term for unlike aspects; 1 for equal boxes.

    Examples
    --------
    >>> same = torch.tensor([[5.0, 5.0, 4.0, 2.0]])
    >>> [round(float(value), 4) for value in complete_iou(same, same)]
    [1.0, 1.0]
    """
    low_1, high_1 = first[:, :2] - first[:, 2:] / 2, first[:, :2] + first[:, 2:] / 2
    low_2, high_2 = second[:, :2] - second[:, 2:] / 2, second[:, :2] + second[:, 2:] / 2
    shared = (torch.minimum(high_1, high_2) - torch.maximum(low_1, low_2)).clamp(min=0).prod(dim=1)
    union = first[:, 2:].prod(dim=1) + second[:, 2:].prod(dim=1) - shared
    overlap = shared / (union + 1e-7)
    hull = torch.maximum(high_1, high_2) - torch.minimum(low_1, low_2)
    distance = (first[:, :2] - second[:, :2]).square().sum(dim=1) / (hull.square().sum(dim=1) + 1e-7)
    angle = torch.atan(second[:, 2] / (second[:, 3] + 1e-7)) - torch.atan(first[:, 2] / (first[:, 3] + 1e-7))
    unlike = (4 / math.pi**2) * angle.square()
    with torch.no_grad():
        weight = unlike / (1 - overlap + unlike + 1e-7)
    return overlap, overlap - distance - weight * unlike


def _outside_ignored(truths: Truths, objectness: Tensor, stride: int) -> Tensor:
    """1 where a cell's centre lies outside every ignored region, else 0."""
    weight = torch.ones_like(objectness)
    rows, columns = objectness.shape[-2:]
    y, x = (np.arange(rows) + 0.5) * stride, (np.arange(columns) + 0.5) * stride
    for picture, (x1, y1, x2, y2) in zip(
        truths.pictures[truths.ignored], truths.boxes[truths.ignored], strict=True
    ):
        inside = ((y >= y1) & (y < y2))[:, None] & ((x >= x1) & (x < x2))[None]
        weight[int(picture), :, torch.from_numpy(inside)] = 0
    return weight
