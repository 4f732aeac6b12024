"""What computes the network: both engines give the same numbers, and the graph is made once."""

import importlib
import io
import json
import subprocess
import sys
import zipfile

import numpy as np
import onnx
import pytest
import torch

import avocet
from avocet.core.boxes import iou
from avocet.core.errors import InputError
from avocet.demo.belt import render_still
from avocet.detector.engines import opening
from avocet.detector.engines.graph import graph_of
from avocet.detector.engines.onnx_engine import OnnxEngine
from avocet.detector.engines.opening import graph_beside, open_engine
from avocet.detector.engines.torch_engine import TorchEngine
from avocet.detector.model.bundle import read_bundle
from avocet.detector.model.card import ModelCard, read_bundle_parts, rewrite_card
from avocet.detector.model.network import Network
from avocet.detector.model.predictor import Predictor
from avocet.detector.model.sizes import SIZES, size_named
from avocet.work.models.onnx_file import write_onnx
from tests.ready import add_to_weights, trained_bundle


def demo_bundle(folder):
    """The demo's own best model, so that there is something to find."""
    path = folder / "belt.zip"
    path.write_bytes(trained_bundle())
    return path


@pytest.fixture(scope="module")
def belt(tmp_path_factory):
    return demo_bundle(tmp_path_factory.mktemp("model"))


def network_like_trained(size, anchors):
    """Weights and normalisations far from where they start."""
    torch.manual_seed(3)
    network = Network(size_named(size), 4, anchors).eval()
    for module in network.modules():
        if isinstance(module, torch.nn.BatchNorm2d):
            module.running_mean.normal_(0, 0.2)
            module.running_var.uniform_(0.5, 2)
            module.weight.data.uniform_(0.7, 1.3)
            module.bias.data.normal_(0, 0.2)
    return network


@pytest.mark.slow
@pytest.mark.parametrize("size", SIZES)
@pytest.mark.parametrize("anchors", [(2, 4, 0), (0, 0, 2)])
def test_the_graph_gives_what_torch_gives(size, anchors):
    sizes = [
        [(8.0 * 2**level + n, 9.0 * 2**level) for n in range(count)] for level, count in enumerate(anchors)
    ]
    card = ModelCard(size=size, classes=list("abcd"), side=96, anchors=sizes, reach=2.0)
    network = network_like_trained(size, anchors)
    graph = graph_of(card, network).SerializeToString()
    inputs = np.random.default_rng(1).integers(0, 256, (3, 64, 96, 3), dtype=np.uint8)
    ours, theirs = TorchEngine(network).raw(inputs), OnnxEngine(graph, card).raw(inputs)
    assert [each.shape for each in ours] == [each.shape for each in theirs]
    for one, other in zip(ours, theirs, strict=True):
        np.testing.assert_allclose(one, other, atol=1e-4)
    assert max(float(np.ptp(each)) for each in ours if each.size) > 1


@pytest.mark.slow
def test_the_same_boxes_from_a_trained_model(belt):
    pictures = [render_still(70 + number).pixels for number in range(3)] + [
        render_still(80).pixels[:300, 50:]
    ]
    card, network = read_bundle(belt)
    ours = Predictor(card, TorchEngine(network)).candidates(pictures, 0.05)
    theirs = Predictor.from_bundle(belt).candidates(pictures, 0.05)
    for one, other in zip(ours, theirs, strict=True):
        assert len(one.boxes) == len(other.boxes) > 5
        np.testing.assert_allclose(one.boxes, other.boxes, atol=1e-2)
        np.testing.assert_allclose(one.scores, other.scores, atol=1e-4)
        np.testing.assert_array_equal(one.classes, other.classes)


@pytest.mark.long
@pytest.mark.slow
def test_the_graph_is_made_once_and_needs_no_torch(tmp_path):
    path = demo_bundle(tmp_path)
    look = (
        "import sys; from pathlib import Path; from avocet.detector.engines.opening import open_engine;"
        f"card, engine = open_engine(Path({str(path)!r})); print(engine.name, 'torch' in sys.modules)"
    )
    said = [
        subprocess.run(
            [sys.executable, "-c", look], check=True, capture_output=True, text=True
        ).stdout.split()
        for _ in range(2)
    ]
    assert said[0][:2] == said[1][:2] == ["ONNX", "Runtime"]
    assert [each[-1] for each in said] == ["True", "False"]


@pytest.mark.slow
def test_a_kept_graph_is_that_of_its_weights(tmp_path, monkeypatch):
    made = []
    real = opening.graph_bytes
    monkeypatch.setattr(opening, "graph_bytes", lambda path: made.append(path) or real(path))
    path = demo_bundle(tmp_path)
    first = open_engine(path)[1]
    open_engine(path)
    assert len(made) == 1
    # Other minimum scores are the same network.
    rewrite_card(path, path, minimum_scores={"roll": 0.7})
    assert open_engine(path)[0].minimum_scores == {"roll": 0.7} and len(made) == 1
    add_to_weights(path)
    inputs = np.zeros((1, 64, 96, 3), np.uint8)
    assert np.abs(open_engine(path)[1].raw(inputs)[0] - first.raw(inputs)[0]).min() > 0.9
    assert len(made) == 2
    kept = graph_beside(path)
    for damaged in (kept.read_bytes()[:-500], b"", kept.read_bytes()[:32] + b"rubbish"):
        kept.write_bytes(damaged)
        np.testing.assert_array_equal(open_engine(path)[1].raw(inputs)[0].shape, first.raw(inputs)[0].shape)
    assert len(made) == 5


def test_where_nothing_can_be_kept_it_still_answers(tmp_path, monkeypatch):
    path = demo_bundle(tmp_path)

    def refused(*_):
        raise InputError("the folder cannot be written")

    monkeypatch.setattr(opening, "write_bytes", refused)
    assert open_engine(path)[1].raw(np.zeros((1, 64, 96, 3), np.uint8))[0].shape[0] == 1
    assert not graph_beside(path).exists()


def test_torch_answers_where_it_is_wanted_or_there_is_nothing_else(belt, monkeypatch):
    monkeypatch.setenv("AVOCET_DEVICE", "cpu")
    assert open_engine(belt)[1].name.startswith("ONNX Runtime")
    monkeypatch.setenv("AVOCET_DEVICE", "meadow")
    with pytest.raises(InputError, match="AVOCET_DEVICE is 'meadow'"):
        open_engine(belt)
    monkeypatch.delenv("AVOCET_DEVICE")
    real = importlib.util.find_spec
    monkeypatch.setattr(opening, "find_spec", lambda name: None if name == "onnxruntime" else real(name))
    assert open_engine(belt)[1].name.startswith("torch")


@pytest.mark.slow
def test_the_script_alone_finds_the_same_boxes(belt, tmp_path):
    """Five pictures, one much larger than the input and one of odd sides, by a program that knows only NumPy."""
    write_onnx(belt, tmp_path / "belt-onnx.zip", "belt")
    with zipfile.ZipFile(tmp_path / "belt-onnx.zip") as archive:
        assert archive.namelist() == ["model.onnx", "find_boxes.py", "README.txt"]
        archive.extractall(tmp_path / "alone")
    pictures = [render_still(90 + number).pixels for number in range(3)]
    pictures += [
        np.repeat(np.repeat(render_still(95).pixels, 3, axis=0), 3, axis=1),
        render_still(96).pixels[7:508, 5:],
    ]
    names = []
    for number, pixels in enumerate(pictures):
        names.append(tmp_path / f"{number}.npy")
        np.save(names[-1], pixels)
    alone = (
        "import sys; sys.modules['avocet'] = sys.modules['torch'] = sys.modules['PIL'] = None;"
        "sys.path.insert(0, '.'); import find_boxes; find_boxes.main()"
    )
    done = subprocess.run(
        [sys.executable, "-c", alone, "model.onnx", *map(str, names)],
        cwd=tmp_path / "alone", check=True, capture_output=True, text=True,
    )  # fmt: skip
    model = avocet.open_model(belt)

    for line, pixels in zip(done.stdout.splitlines(), pictures, strict=True):
        # By place: of scores that are alike within rounding either may come first.
        theirs = sorted(json.loads(line)["boxes"], key=lambda each: each["box"][0])
        ours = sorted(model.find(pixels), key=lambda each: each.box[0])
        assert len(ours) >= 4
        assert [each["class"] for each in theirs] == [each.class_name for each in ours]
        overlaps = [
            iou(np.array([each["box"]]), np.array([one.box]))[0, 0]
            for each, one in zip(theirs, ours, strict=True)
        ]
        assert min(overlaps) > 0.95
        # To a third of a pixel it is one that the model sees: of two that lie on one object and whose scores are
        # alike within rounding, either may be kept.
        seen = model.find(pixels, overlap_limit=1.0)
        scale = pixels.shape[1] / 960
        for each in theirs:
            apart = [np.abs(np.subtract(each["box"], one.box)).max() for one in seen]
            alike = seen[int(np.argmin(apart))]
            assert min(apart) < 0.3 * scale and alike.class_name == each["class"]
            assert alike.score == pytest.approx(each["score"], abs=0.01)


def test_the_script_scales_as_the_product_does():
    from avocet.core.raw.letterbox import letterbox
    from avocet.detector.engines.find_boxes import scaled
    from avocet.detector.pictures.resizing import scale_to

    generator = np.random.default_rng(5)
    sizes = [(54, 96, 23, 41), (401, 733, 50, 90), (30, 40, 60, 80), (32, 32, 32, 32), (540, 960, 144, 256)]
    sizes += [(1080, 1920, 144, 256), (333, 501, 64, 96), (1001, 1777, 288, 512), (300, 400, 192, 256)]
    for _ in range(60):
        height, width = generator.integers(8, 500, 2).tolist()
        laid = letterbox(width, height, 32 * int(generator.integers(1, 12)))
        sizes.append((height, width, laid.height, laid.width))
    for height, width, to_height, to_width in sizes:
        pixels = generator.integers(0, 256, (height, width, 3), dtype=np.uint8)
        np.testing.assert_array_equal(
            scaled(pixels, to_width, to_height), scale_to(pixels, to_width, to_height)
        )


def test_the_script_reads_pixmaps(tmp_path):
    from PIL import Image

    from avocet.detector.engines.find_boxes import read

    pixels = np.random.default_rng(2).integers(0, 256, (9, 14, 3), dtype=np.uint8)
    pixels[0, 0] = (32, 10, 13)  # the first bytes look like white space
    kept = io.BytesIO()
    Image.fromarray(pixels).save(kept, "PPM")
    (tmp_path / "a.ppm").write_bytes(kept.getvalue())
    np.testing.assert_array_equal(read(tmp_path / "a.ppm"), pixels)


def test_the_card_goes_along(belt):
    card, network = read_bundle(belt)
    model = graph_of(card, network)
    said = {each.key: each.value for each in model.metadata_props}
    assert ModelCard.model_validate_json(said["card"]) == card == read_bundle_parts(belt)[0]
    onnx.checker.check_model(model, full_check=True)


@pytest.mark.slow
def test_finding_from_a_program(belt):
    model, pixels = avocet.open_model(belt), render_still(3).pixels
    found = model.find(pixels)
    assert found and [each.score for each in found] == sorted((each.score for each in found), reverse=True)
    assert min(each.score for each in found) >= model.minimum_score
    only = model.find(pixels, minimum_score=0.1, classes=[found[0].class_name])
    assert {each.class_name for each in only} == {found[0].class_name}
    for wrong, message in ((pixels[..., :2], "3.* of uint8"), (pixels.astype(float), "not .* of float64")):
        with pytest.raises(InputError, match=message):
            model.find(wrong)
    with pytest.raises(InputError, match="minimum score must lie between 0 and 1, not 7"):
        model.find(render_still(3).pixels, minimum_score=7)
    with pytest.raises(InputError, match="does not know the class 'brick'"):
        model.find(render_still(3).pixels, classes=["brick"])


@pytest.mark.slow
def test_several_at_once_are_what_each_is_alone(belt):
    """Pictures of several sizes, more of them than threads."""
    card, network = read_bundle(belt)
    graph = graph_of(card, network).SerializeToString()
    alone, several = (Predictor(card, OnnxEngine(graph, card, threads)) for threads in (1, 3))
    generator = np.random.default_rng(6)
    sizes = [(720, 1280), (300, 300), (540, 960), (33, 77), (540, 960), (900, 500)]
    pictures = [render_still(3).pixels]
    pictures += [generator.integers(0, 256, (*size, 3), dtype=np.uint8) for size in sizes]
    for one, other in zip(
        alone.candidates(pictures, 0.005), several.candidates(pictures, 0.005), strict=True
    ):
        np.testing.assert_allclose(one.boxes, other.boxes, atol=1e-3)
        np.testing.assert_allclose(one.scores, other.scores, atol=1e-4)
        np.testing.assert_array_equal(one.classes, other.classes)
