"""A network in 8 bits: nearly the same boxes from a third of the bytes, and 32 bits where the ranges do not fit."""

import json
import zipfile

import numpy as np
import onnx
import pytest
import torch

from avocet.core.boxes import iou
from avocet.core.errors import InputError
from avocet.demo.belt import render_still
from avocet.detector.engines.eight_bits import in_eight_bits, value_ranges
from avocet.detector.engines.graph import graph_of
from avocet.detector.engines.onnx_engine import OnnxEngine
from avocet.detector.engines.opening import open_engine
from avocet.detector.model.bundle import read_bundle
from avocet.detector.model.card import CARD, WEIGHTS, read_bundle_parts, rewrite_card
from avocet.detector.model.layers import ConvUnit
from avocet.detector.model.predictor import Predictor
from avocet.work.models.onnx_file import write_onnx
from tests.ready import add_to_weights, trained_bundle


@pytest.fixture(scope="module")
def belt(tmp_path_factory):
    path = tmp_path_factory.mktemp("model") / "belt.zip"
    path.write_bytes(trained_bundle())
    return path


@pytest.fixture(scope="module")
def graph(belt):
    return graph_of(*read_bundle(belt))


@pytest.fixture(scope="module")
def inputs(belt):
    predictor = Predictor.from_bundle(belt)
    return [predictor.input_of(render_still(number).pixels)[None] for number in range(8)]


@pytest.fixture(scope="module")
def ranges(graph, inputs):
    return value_ranges(graph, inputs)


@pytest.fixture
def small(belt, ranges, tmp_path):
    """The bundle with the ranges in its card."""
    path = tmp_path / "small.zip"
    rewrite_card(belt, path, value_ranges=ranges)
    return path


@pytest.mark.slow
def test_ranges_are_what_torch_sees(belt, inputs, ranges):
    _, network = read_bundle(belt)
    network.fold()
    seen = []

    def look(module, given, made):
        seen.append((min(0.0, float(made.min())), max(0.0, float(made.max()))))

    for module in network.modules():
        if isinstance(module, ConvUnit):
            module.register_forward_hook(look)
    with torch.no_grad():
        network(torch.from_numpy(inputs[3]).permute(0, 3, 1, 2) / 255)
    ours = value_ranges(graph_of(*read_bundle(belt)), inputs[3:4])
    activated = [both for name, both in ours.items() if name.startswith("mul_")]
    assert len(activated) == len(seen) > 15
    np.testing.assert_allclose(np.sort(activated, axis=0), np.sort(seen, axis=0), atol=1e-3)
    # More pictures can only widen them, and zero is always within.
    assert all(ranges[name][0] <= low <= 0 <= high <= ranges[name][1] for name, (low, high) in ours.items())


@pytest.mark.slow
def test_nearly_the_same_boxes_from_a_third_of_the_bytes(belt, graph, small):
    pictures = [render_still(300 + number).pixels for number in range(6)]
    usual, tried = Predictor.from_bundle(belt), Predictor.from_bundle(small)
    assert tried.about["engine"] == f"{usual.about['engine']}, 8 bit"
    for one, other in zip(usual.candidates(pictures, 0.3), tried.candidates(pictures, 0.3), strict=True):
        one, other = one.after_suppression(0.5, 0.5), other.after_suppression(0.3, 0.5)
        overlap = iou(one.boxes, other.boxes)
        nearest = overlap.argmax(axis=1)
        assert len(one.boxes) >= 3 and overlap.max(axis=1).min() > 0.85
        np.testing.assert_array_equal(one.classes, other.classes[nearest])
        np.testing.assert_allclose(one.scores, other.scores[nearest], atol=0.25)


def test_only_the_heads_stay_as_they_are(graph, ranges):
    before = graph.SerializeToString()
    made = in_eight_bits(graph, ranges)
    assert graph.SerializeToString() == before
    assert len(made.SerializeToString()) < 0.35 * len(before)
    assert {each.key for each in made.metadata_props} >= {"card", "bits"}
    weights = {each.name: each for each in made.graph.initializer}
    convolutions = [each for each in made.graph.node if each.op_type == "Conv"]
    whole = [each for each in convolutions if each.input[1] in weights]
    assert len(whole) == 2, "a head for each level that is used"
    stored = [each for each in made.graph.initializer if each.data_type == onnx.TensorProto.INT8]
    kernels = [onnx.numpy_helper.to_array(each) for each in stored if len(each.dims) == 4]
    assert len(kernels) == len(convolutions) - 2
    # In 7 bits, by which no processor's sums overflow.
    assert max(int(np.abs(each.astype(int)).max()) for each in kernels) <= 64


def test_ranges_of_another_network_are_not_used(belt, graph, ranges, tmp_path):
    fewer = dict(list(ranges.items())[1:])
    with pytest.raises(InputError, match="not those of this network"):
        in_eight_bits(graph, fewer)
    rewrite_card(belt, tmp_path / "other.zip", value_ranges=fewer)
    card, engine = open_engine(tmp_path / "other.zip")
    assert "8 bit" not in engine.name
    inputs = np.zeros((1, 64, 96, 3), np.uint8)
    np.testing.assert_array_equal(
        engine.raw(inputs)[0], OnnxEngine(graph.SerializeToString(), card).raw(inputs)[0]
    )
    # Nor is the graph that was kept for it taken for one in 8 bits.
    assert "8 bit" not in open_engine(tmp_path / "other.zip")[1].name


@pytest.mark.slow
def test_other_weights_make_another_graph(small):
    first = open_engine(small)[1]
    add_to_weights(small)
    inputs = np.zeros((1, 64, 96, 3), np.uint8)
    assert np.abs(open_engine(small)[1].raw(inputs)[0] - first.raw(inputs)[0]).min() > 0.9


def test_a_bundle_without_ranges_is_what_it_was(belt, small, tmp_path):
    assert CARD in zipfile.ZipFile(belt).namelist()
    assert "value_ranges" not in json.loads(zipfile.ZipFile(belt).read(CARD))
    rewrite_card(small, tmp_path / "back.zip", value_ranges={})
    assert (tmp_path / "back.zip").read_bytes() == belt.read_bytes()


@pytest.mark.parametrize(
    ("bad", "said"),
    [
        ({"x": [float("nan"), 1]}, "range nan"),
        ({"x": [0, float("inf")]}, "range 0.0 to inf"),
        ({"x": [1, 2]}, "range 1.0 to 2.0"),
        ({"x": [0, 1e300]}, "range 0.0 to 1e"),
        ({"x": [0]}, "value_ranges.x"),
        ({f"x{number}": [0, 1] for number in range(2001)}, "value_ranges"),
    ],
)
def test_ranges_that_are_none(belt, tmp_path, bad, said):
    card = json.loads(zipfile.ZipFile(belt).read(CARD)) | {"value_ranges": bad}
    with zipfile.ZipFile(tmp_path / "bad.zip", "w") as archive:
        archive.writestr(CARD, json.dumps(card))
        archive.writestr(WEIGHTS, zipfile.ZipFile(belt).read(WEIGHTS))
    with pytest.raises(InputError, match=said):
        read_bundle_parts(tmp_path / "bad.zip")


@pytest.mark.slow
def test_for_other_programs_it_goes_along(small, tmp_path):
    write_onnx(small, tmp_path / "belt-onnx.zip", "belt")
    with zipfile.ZipFile(tmp_path / "belt-onnx.zip") as archive:
        assert archive.namelist() == ["model.onnx", "find_boxes.py", "model-8-bit.onnx", "README.txt"]
        content = archive.read("model-8-bit.onnx")
        assert b"model-8-bit.onnx is the same" in archive.read("README.txt")
    card, engine = open_engine(small)
    inputs = np.full((1, 64, 96, 3), 80, np.uint8)
    np.testing.assert_array_equal(OnnxEngine(content, card).raw(inputs)[0], engine.raw(inputs)[0])
