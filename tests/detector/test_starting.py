"""Starting weights: what fits is taken over, what is shipped is small and helps."""

import numpy as np
import pytest
import torch

from avocet.core.errors import InputError
from avocet.detector.model.bundle import write_bundle
from avocet.detector.model.card import ModelCard
from avocet.detector.model.network import Network
from avocet.detector.model.shipped import pack_weights, shipped_weights, unpack_weights
from avocet.detector.model.sizes import SIZES, parameter_count, size_named
from avocet.detector.model.starting import take_weights, weights_of_bundle
from avocet.detector.model.summary import summarise


def network(classes, size="stint", seed=0):
    torch.manual_seed(seed)
    made = Network(size_named(size), len(classes)).eval()
    for module in made.modules():
        if isinstance(module, torch.nn.BatchNorm2d):
            module.running_mean.normal_(0, 0.1)
    for head in made.heads:
        head.weight.data.normal_(0, 0.1)
    return made


def bundle(path, classes, size="stint"):
    anchors = [[(10.0, 10.0)] * 3] * 3
    made = network(classes, size)
    write_bundle(
        path, ModelCard(size=size, classes=classes, side=96, anchors=anchors, reach=2), made.state_dict()
    )
    return made


@torch.no_grad()
def test_other_classes_in_another_order(tmp_path):
    earlier = bundle(tmp_path / "a.zip", ["roll", "loaf", "ring"])
    wanted = ["ring", "pretzel", "roll"]
    later = network(wanted, seed=5)
    before = later.heads[0].weight.view(3, 8, -1).clone()
    transfer = take_weights(later, wanted, weights_of_bundle(tmp_path / "a.zip"))
    assert transfer.known == ["ring", "roll"] and transfer.unknown == ["pretzel"]
    assert transfer.new["backbone"] == transfer.new["neck"] == 0 and transfer.new["outputs"] > 0
    assert "Known classes: ring, roll. New classes: pretzel" in transfer.in_words()
    assert transfer.in_words().startswith(
        "99 % of the weights are taken over: backbone, neck and where boxes are"
    )
    picture = torch.rand(1, 3, 96, 96)
    for old, new in zip(earlier(picture), later(picture), strict=True):
        assert (old[:, :, :5] == new[:, :, :5]).all()
        assert (old[:, :, 7] == new[:, :, 5]).all() and (old[:, :, 5] == new[:, :, 7]).all()
    assert (later.heads[0].weight.view(3, 8, -1)[:, 6] == before[:, 6]).all(), "a new class begins anew"


@pytest.mark.slow
def test_what_does_not_fit_is_said(tmp_path):
    bundle(tmp_path / "large.zip", ["roll"], "dunlin")
    with pytest.raises(InputError, match=r"large.zip is a Dunlin; nothing of it fits"):
        take_weights(network(["roll"]), ["roll"], weights_of_bundle(tmp_path / "large.zip"))
    (tmp_path / "no.zip").write_bytes(b"not a zip")
    with pytest.raises(InputError, match=r"no.zip is not a model bundle"):
        weights_of_bundle(tmp_path / "no.zip")


def test_weights_that_are_not_finite_are_not_taken(tmp_path):
    bundle(tmp_path / "a.zip", ["roll"])
    weights = weights_of_bundle(tmp_path / "a.zip")
    weights.tensors["stem.conv.weight"][0] = float("nan")
    transfer = take_weights(network(["roll"], seed=1), ["roll"], weights)
    assert transfer.new["backbone"] == weights.tensors["stem.conv.weight"].numel()


@pytest.mark.slow
def test_packing_loses_little(tmp_path):
    made = network(["roll"])
    pack_weights(tmp_path / "w.zip", "stint", ["roll"], made.state_dict())
    unpacked = unpack_weights(tmp_path / "w.zip")
    assert (unpacked.size, unpacked.classes) == ("stint", ["roll"])
    for name, value in made.state_dict().items():
        if value.dtype.is_floating_point:
            error = (value - unpacked.tensors[name]).abs().max() / value.abs().max().clamp(min=1e-9)
            assert error < 0.02, name


@pytest.mark.slow
def test_all_sizes_are_shipped_in_under_8_mb():
    from importlib import resources

    folder = resources.files("avocet.detector") / "weights"
    assert sum((folder / f"{size}.zip").stat().st_size for size in SIZES) < 8_000_000
    for size in SIZES:
        made = network(["roll", "ring"], size, seed=9)
        transfer = take_weights(made, ["roll", "ring"], shipped_weights(size))
        assert transfer.new["backbone"] == transfer.new["neck"] == 0
        assert transfer.taken["outputs"] and transfer.known == []


def test_sizes_are_timed_in_turns(monkeypatch):
    """What slows the machine for a while slows all of them: no size comes out quicker by its luck."""
    shown, rounds = [], []

    def noted(network, picture, device, bfloat16):
        shown.append(network.stem.conv.out_channels)

    monkeypatch.setattr("avocet.detector.model.summary.forward", noted)
    summarise(["dunlin", "wren", "stint"], 96, 4, lambda done, many: rounds.append((done, many)))
    assert shown == [24, 8, 16] * len(rounds) and rounds[-1] == (len(rounds), len(rounds))

    def enough(done, many):
        raise KeyboardInterrupt

    del shown[:]
    with pytest.raises(KeyboardInterrupt):
        summarise(["wren", "stint"], 96, 4, enough)
    assert shown == [8, 16]


@pytest.mark.parametrize("size", list(SIZES))
@pytest.mark.slow
def test_summary_counts_what_is_there(size):
    summary = summarise([size], 96, 4)[size]
    assert summary.parameters == parameter_count(size_named(size), 4)
    assert summary.milliseconds > 0
    stem = summary.layers[0]
    assert stem.multiply_adds == int(np.prod(stem.output)) * 27
    twice = summarise([size], 192, 4)[size]
    assert twice.multiply_adds == 4 * summary.multiply_adds
