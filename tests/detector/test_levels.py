"""A level without anchors: it costs nothing, answers nothing, and is carried through bundle and decoding."""

import numpy as np
import pytest
import torch

from avocet.core.errors import InputError
from avocet.core.raw.decode import decode
from avocet.detector.engines.torch_engine import TorchEngine
from avocet.detector.model.bundle import read_bundle, write_bundle
from avocet.detector.model.card import ModelCard
from avocet.detector.model.network import Network
from avocet.detector.model.predictor import Predictor
from avocet.detector.model.sizes import STRIDES, parameter_count, size_named
from avocet.detector.model.starting import StartingWeights, take_weights
from avocet.detector.targets.loss import Truths, detection_loss

SOME = [(3, 2, 0), (0, 3, 1), (1, 0, 4), (0, 0, 2), (5, 0, 0)]


def anchors_of(counts):
    return [
        [(12.0 * stride / 8 + number, 10.0) for number in range(count)]
        for count, stride in zip(counts, STRIDES, strict=True)
    ]


@pytest.mark.parametrize("counts", SOME)
def test_outputs_have_the_anchors_of_each_level(counts):
    network = Network(size_named("stint"), 4, counts).eval()
    outputs = network(torch.rand(2, 3, 64, 96))
    assert [tuple(each.shape) for each in outputs] == [
        (2, count, 9, 64 // stride, 96 // stride) for count, stride in zip(counts, STRIDES, strict=True)
    ]
    assert sum(each.numel() for each in network.parameters()) == parameter_count(
        size_named("stint"), 4, counts
    )
    decoded = decode([each[0].detach().numpy() for each in outputs], anchors_of(counts), STRIDES)
    places = sum(
        count * (64 // stride) * (96 // stride) for count, stride in zip(counts, STRIDES, strict=True)
    )
    assert len(decoded.boxes) == places
    assert all(counts[level] for level in set(decoded.origin[:, 0].tolist()))


@pytest.mark.parametrize("counts", SOME)
def test_a_bundle_keeps_the_levels(tmp_path, counts):
    network = Network(size_named("stint"), 2, counts).eval()
    card = ModelCard(
        size="stint", classes=["roll", "ring"], side=96, anchors=anchors_of(counts), reach=2.0,
        calibration=(-3.0, 1.2, 0.8), minimum_score=0.42,
    )  # fmt: skip
    path = tmp_path / "model.zip"
    write_bundle(path, card, network.state_dict())
    read, again = read_bundle(path)
    assert read == card and again.anchors == counts
    found = Predictor(read, TorchEngine(again)).candidates([np.zeros((54, 96, 3), np.uint8)], 0.0001)[0]
    assert len(found.scores) and (np.diff(found.scores) <= 0).all()


def test_a_card_without_any_anchor_or_with_a_falling_map_is_refused(tmp_path):
    weights = Network(size_named("stint"), 1).state_dict()
    good = ModelCard(size="stint", classes=["roll"], side=96, anchors=anchors_of((3, 3, 3)), reach=2.0)
    for bad, said in (
        ({"anchors": [[], [], []]}, "anchors that this Avocet does not know"),
        ({"anchors": anchors_of((31, 0, 0))}, "anchors that this Avocet does not know"),
        ({"calibration": (-3.0, 0.0, 1.0)}, "does not rise"),
        ({"calibration": (-6.0, 1.0, 1.0)}, "does not rise"),
        ({"minimum_score": 1.5}, "minimum score 1.5"),
    ):
        write_bundle(tmp_path / "bad.zip", good.model_copy(update=bad), weights)
        with pytest.raises(InputError, match=said):
            read_bundle(tmp_path / "bad.zip")


def test_scores_are_calibrated_and_their_minimum_with_them():
    torch.manual_seed(3)
    network = Network(size_named("stint"), 2)
    anchors = anchors_of((3, 3, 3))
    plain = ModelCard(size="stint", classes=["roll", "ring"], side=96, anchors=anchors, reach=2.0)
    mapped = plain.model_copy(update={"calibration": (-2.0, 0.7, 0.4)})
    pixels = [np.random.default_rng(0).integers(0, 255, (96, 96, 3), dtype=np.uint8)]
    weights = network.state_dict()
    first = Predictor(plain, TorchEngine(network)).candidates(pixels, 0.005)[0]
    other = Network(size_named("stint"), 2)
    other.load_state_dict(weights)
    second = Predictor(mapped, TorchEngine(other)).candidates(pixels, 0.005)[0]
    np.testing.assert_allclose(second.boxes, first.boxes)
    np.testing.assert_allclose(second.scores, mapped.score_map(first.scores), rtol=1e-9)


def test_truths_teach_only_levels_with_anchors():
    anchors = [np.array([[20.0, 20.0]]), np.zeros((0, 2)), np.array([[70.0, 70.0]])]
    outputs = [
        torch.zeros(1, len(sizes), 7, 96 // stride, 96 // stride, requires_grad=True)
        for sizes, stride in zip(anchors, STRIDES, strict=True)
    ]
    truths = Truths(
        np.zeros(2, np.int64),
        np.array([[10.0, 10, 32, 30], [20, 20, 90, 92]]),
        np.array([0, 1]),
        np.zeros(2, bool),
    )
    loss = detection_loss(outputs, truths, anchors, STRIDES, 2.0)
    loss.total.backward()
    assert torch.isfinite(loss.total) and all(each.grad is not None for each in (outputs[0], outputs[2]))


def test_outputs_are_taken_over_by_rank_where_a_level_has_other_anchors():
    torch.manual_seed(0)
    theirs, mine = Network(size_named("stint"), 2), Network(size_named("stint"), 2, (2, 4, 0))
    weights = StartingWeights("earlier", "stint", ["roll", "ring"], dict(theirs.state_dict()))
    transfer = take_weights(mine, ["roll", "ring"], weights)
    assert transfer.known == ["roll", "ring"]
    given = theirs.heads[0].weight.view(3, 7, -1)
    assert torch.equal(mine.heads[0].weight.view(2, 7, -1), given[[0, 2]])
    assert torch.equal(
        mine.heads[1].weight.view(4, 7, -1), theirs.heads[1].weight.view(3, 7, -1)[[0, 1, 1, 2]]
    )
