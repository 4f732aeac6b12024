"""Layers that sizes are made of: the same in torch and in the graph, counted right."""

import numpy as np
import onnxruntime
import pytest
import torch

from avocet.detector.engines.eight_bits import in_eight_bits, value_ranges
from avocet.detector.engines.graph import graph_of
from avocet.detector.model.card import ModelCard
from avocet.detector.model.layers import InvertedResidual, stage_of
from avocet.detector.model.network import Network
from avocet.detector.model.sizes import GODWIT, SIZES, Inverted, Shortcut, Unit, parameter_count
from avocet.detector.model.summary import _layers

PARTS = [
    Unit(6, 10, 3, 2),
    Unit(6, 10, 1, active=False),
    Shortcut(6),
    Inverted(6, 6, 5),
    Inverted(6, 10, 3),
    Inverted(6, 6, 5, 2),
]


@pytest.fixture
def godwit():
    """A network with inverted residual blocks, its normalisations as if it had been trained."""
    torch.manual_seed(3)
    network = Network(GODWIT, 2).eval()
    for module in network.modules():
        if isinstance(module, torch.nn.BatchNorm2d):
            module.running_mean.normal_(std=0.2)
            module.running_var.uniform_(0.5, 2)
    return network


def graph(network):
    card = ModelCard(
        size="stint", classes=["roll", "ring"], side=64, reach=2,
        anchors=[[(8, 8)] * 3, [(20, 20)] * 3, [(50, 50)] * 3],
    )  # fmt: skip
    return graph_of(card, network)


@pytest.mark.parametrize("part", PARTS, ids=str)
def test_a_part_has_the_parameters_that_are_counted_and_the_channels_that_are_told(part):
    stage = stage_of((part,))
    assert sum(each.numel() for each in stage.parameters()) == part.parameters
    assert stage(torch.rand(2, 6, 16, 16)).shape[1] == part.outputs


def test_what_is_added_to_an_inverted_block_is_what_came_in():
    block = InvertedResidual(Inverted(6, 6, 3)).eval()
    torch.nn.init.zeros_(block.narrow.norm.weight)
    x = torch.rand(1, 6, 8, 8)
    torch.testing.assert_close(block(x), x)
    halving = InvertedResidual(Inverted(6, 6, 3, 2)).eval()
    torch.nn.init.zeros_(halving.narrow.norm.weight)
    assert halving(x).shape == (1, 6, 4, 4) and not halving(x).any()


def test_the_graph_of_inverted_blocks_gives_what_torch_gives(godwit):
    pixels = np.random.default_rng(0).integers(0, 256, (2, 64, 96, 3), dtype=np.uint8)
    with torch.no_grad():
        wanted = godwit(torch.from_numpy(pixels).permute(0, 3, 1, 2) / 255)
    session = onnxruntime.InferenceSession(
        graph(godwit).SerializeToString(), providers=["CPUExecutionProvider"]
    )
    found = session.run([f"stride_{stride}" for stride in (8, 16, 32)], {"pixels": pixels})
    for mine, theirs in zip(found, wanted, strict=True):
        np.testing.assert_allclose(mine, theirs.flatten(1, 2).numpy(), atol=2e-3)


def test_inverted_blocks_are_computed_in_eight_bits_too(godwit):
    pixels = np.random.default_rng(1).integers(0, 256, (2, 64, 64, 3), dtype=np.uint8)
    whole = graph(godwit)
    small = in_eight_bits(whole, value_ranges(whole, [pixels]))
    names = [f"stride_{stride}" for stride in (8, 16, 32)]
    exact, rough = (
        onnxruntime.InferenceSession(each.SerializeToString(), providers=["CPUExecutionProvider"]).run(
            names, {"pixels": pixels}
        )
        for each in (whole, small)
    )
    assert small.ByteSize() < 0.5 * whole.ByteSize()
    for mine, theirs in zip(rough, exact, strict=True):
        assert np.corrcoef(mine.ravel(), theirs.ravel())[0, 1] > 0.98


def test_parameters_are_counted_as_the_network_has_them():
    for size in (GODWIT, *SIZES.values()):
        assert parameter_count(size, 3) == sum(each.numel() for each in Network(size, 3).parameters())


def test_a_convolution_by_channel_costs_a_channel_of_work():
    layers = {each.name: each for each in _layers(Network(GODWIT, 2).eval(), 64)}
    each = layers["stages.2.1.each"]
    assert each.kind == "3×3, by channel"
    assert each.multiply_adds == 4 * 4 * 480 * 9 and each.parameters == 480 * 9 + 2 * 480
