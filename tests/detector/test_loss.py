import numpy as np
import pytest
import torch

from avocet.core.boxes import from_centre_size, iou
from avocet.detector.targets.loss import Truths, complete_iou, detection_loss

ANCHORS = np.array([[[16.0, 16.0]], [[64.0, 64.0]]])


def truths(boxes, classes, ignored=None):
    count = len(boxes)
    return Truths(
        np.zeros(count, np.int64),
        np.asarray(boxes, float).reshape(-1, 4),
        np.asarray(classes, np.int64),
        np.asarray(ignored if ignored is not None else [False] * count, dtype=bool),
    )


def raw(fill=0.0, classes=2):
    return [torch.full((1, 1, 5 + classes, side, side), fill, requires_grad=True) for side in (8, 4)]


def test_complete_iou_by_hand():
    # Equal squares of 4, one shifted by 3 in x: IoU 4/28; hull 7×4, so distance 9/65; aspects alike.
    first, second = torch.tensor([[2.0, 2, 4, 4]]), torch.tensor([[5.0, 2, 4, 4]])
    overlap, complete = complete_iou(first, second)
    assert overlap.item() == pytest.approx(4 / 28, abs=1e-5)
    assert complete.item() == pytest.approx(4 / 28 - 9 / 65, abs=1e-5)


def test_complete_iou_never_exceeds_iou():
    random = np.random.default_rng(0)
    first, second = random.uniform(1, 50, (100, 4)), random.uniform(1, 50, (100, 4))
    overlap, complete = complete_iou(torch.from_numpy(first), torch.from_numpy(second))
    np.testing.assert_allclose(
        overlap, np.diag(iou(from_centre_size(first), from_centre_size(second))), atol=1e-6
    )
    assert (complete <= overlap + 1e-9).all()


def test_background_only_by_hand():
    # All raw numbers 0: each of 64 + 16 cells costs ln 2; no positives, so divided by 1.
    losses = detection_loss(raw(), truths([], []), ANCHORS, (8, 16), 2.0)
    assert losses.objectness.item() == pytest.approx(80 * np.log(2), rel=1e-5)
    assert losses.box.item() == 0 and losses.classes.item() == 0


def test_a_perfect_answer_costs_nearly_nothing():
    levels = raw(-12.0)
    with torch.no_grad():
        # Truth 16×16 about (20, 28), the middle of cell (row 3, column 2): only that one answers.
        for row, column, x, y in ((3, 2, 0.0, 0.0),):
            shift = torch.tensor([x, y]) / 2 + 0.5
            levels[0][0, 0, :2, row, column] = torch.logit(shift.clamp(1e-4, 1 - 1e-4))
            levels[0][0, 0, 2:4, row, column] = 0
            levels[0][0, 0, 4:6, row, column] = 12
    losses = detection_loss(levels, truths([[12, 20, 28, 36]], [0]), ANCHORS, (8, 16), 2.0)
    assert losses.total.item() < 0.01


def test_ignored_regions_teach_nothing():
    everything = [[0, 0, 64, 64]]
    losses = detection_loss(raw(), truths(everything, [0], [True]), ANCHORS, (8, 16), 2.0)
    assert losses.total.item() == 0


@pytest.mark.slow
def test_loss_falls_along_its_gradient():
    levels = [
        level.detach().normal_(generator=torch.Generator().manual_seed(1)).requires_grad_() for level in raw()
    ]
    given = truths([[10, 10, 30, 28], [4, 30, 60, 62]], [0, 1])
    optimizer = torch.optim.Adam(levels, lr=0.1)
    history = []
    for _ in range(60):
        optimizer.zero_grad()
        loss = detection_loss(levels, given, ANCHORS, (8, 16), 2.0).total
        loss.backward()
        optimizer.step()
        history.append(loss.item())
    assert history[-1] < 0.3 * history[0]
