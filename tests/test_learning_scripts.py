"""The scripts that learn what is shipped: the parts that photographs fall into, their boxes, and the learning itself."""

import sys
from pathlib import Path

import numpy as np
import pytest
import torch
from PIL import Image

from avocet.core.labels.edges import FACTS, EdgePlaces
from avocet.detector.model.network import Network
from avocet.detector.model.sizes import GODWIT

sys.path.insert(0, str(Path(__file__).parent.parent / "scripts"))

import edge_weights
import image_teacher
import photograph_scenes
import photograph_weights
import photographs


@pytest.fixture
def cache(tmp_path):
    """Four cut-outs and four backgrounds where the packages put theirs, and one of each that may not be used."""
    names, _ = photographs._names()
    stamps = tmp_path / "tuxpaint-stamps-default" / "usr/share/tuxpaint/stamps"
    for number, name in enumerate([*names[:4], "apart/kept"]):
        values = np.zeros((40 + number, 60, 4), np.uint8)
        values[5:-7, 8:-9] = (200, 30, 10 * number, 255)
        (stamps / name).parent.mkdir(parents=True, exist_ok=True)
        Image.fromarray(values).save(stamps / f"{name}.png")
    walls = tmp_path / "mate-backgrounds" / "usr"
    walls.mkdir(parents=True)
    for number, name in enumerate(["Garden.jpg", "FreshFlower.jpg", "LadyBird.jpg", "fog.jpg", "Apart.jpg"]):
        Image.new("RGB", (96 + number, 60), (0, 20 * number, 120)).save(walls / name)
    return tmp_path


def test_each_part_has_pictures_of_its_own_and_none_that_is_kept_apart(cache):
    for of_part in (photographs.cut_outs, photographs.backgrounds):
        one, other = (of_part(cache, part) for part in (0, 1))
        assert len(one) == len(other) == 2 and not set(one) & set(other)
        assert not any("part" in path.stem.lower() for path in (*one, *other))


def test_a_scene_has_the_exact_box_of_its_cut_out(cache):
    made = list(photographs.scenes(cache, 0, 3, 1))
    again = list(photographs.scenes(cache, 0, 3, 1))
    assert len(made) == 6
    for (pixels, box), (same, _) in zip(made, again, strict=True):
        np.testing.assert_array_equal(pixels, same)
        red = pixels[..., 0] > 100
        rows, columns = np.nonzero(red)
        found = [columns.min(), rows.min(), columns.max() + 1, rows.max() + 1]
        np.testing.assert_allclose(found, box, atol=1)


def test_packages_that_cannot_be_fetched_are_named(tmp_path, monkeypatch):
    monkeypatch.setenv("PATH", str(tmp_path))
    with pytest.raises(SystemExit, match="tuxpaint-stamps-default cannot be fetched"):
        photographs.fetch(tmp_path / "cache")


def test_learning_finds_the_weights_by_which_places_were_chosen():
    """Edges chosen by a conditional logit of known weights give these back, within what so many edges can tell."""
    random = np.random.default_rng(0)
    known = np.zeros(len(FACTS))
    known[[0, 3, 7]] = (1.5, -2.0, 0.7)
    some = []
    for _ in range(3000):
        facts = random.normal(size=(15, len(FACTS)))
        shares = np.exp(facts @ known)
        chosen = random.choice(15, p=shares / shares.sum())
        # Places far from one another, so that only the chosen one is near the true one.
        some.append((EdgePlaces(np.arange(15) * 10, facts, 0.0), 10.0 * chosen))
    found = edge_weights.learn(some)
    np.testing.assert_allclose(found, known, atol=0.12)


def solid(width, height, colour, mode="RGBA"):
    """A cut-out with a transparent rim, so that its own corners are known."""
    values = np.zeros((height, width, 4), np.uint8)
    values[4:-4, 4:-4] = (*colour, 255)
    return Image.fromarray(values).convert(mode)


def test_starting_weights_learn_from_nothing_that_is_kept_for_the_benchmark(cache, monkeypatch):
    kept = next(iter(photographs._kept()["goods"].values()))[0]
    path = cache / photographs.STAMPS / f"{kept}.png"
    path.parent.mkdir(parents=True, exist_ok=True)
    solid(90, 80, (1, 2, 3)).save(path)
    packed = cache / photographs.MORE
    packed.mkdir()
    content = []
    for picture in (solid(100, 90, (9, 9, 9)), solid(300, 200, (5, 90, 9), "RGB"), solid(20, 20, (9, 9, 9))):
        picture.save(cache / "one.webp", lossless=True)
        content.append((cache / "one.webp").read_bytes())
    # The first twice, and one that is cut off in the middle.
    (packed / "things.rcc").write_bytes(b"qres" + b"".join(content) + content[0] + content[1][:60])
    monkeypatch.setattr(photographs, "fetch", lambda cache, packages: None)
    grounds, cut_outs = photographs.learnt_from(cache)
    assert kept not in cut_outs and len(cut_outs) == 5
    assert [each.size for each in cut_outs.values()][-1] == (100, 90)
    # Of the four backgrounds two are kept for the benchmark.
    assert sorted(each.size for each in grounds) == [(96, 60), (99, 60), (300, 200)]


def test_a_scene_to_learn_from_has_the_exact_box_of_what_is_seen():
    grounds = [Image.new("RGB", (400, 300), (40, 40, 40))]
    of = photograph_scenes.made_small(grounds, [solid(200, 120, (255, 0, 0)), solid(90, 150, (0, 255, 0))])
    boxes = 0
    for seed in range(60):
        pixels, corners, classes = photograph_scenes.photograph_scene(of, 160, seed)
        again = photograph_scenes.photograph_scene(of, 160, seed)
        np.testing.assert_array_equal(pixels, again[0])
        assert pixels.shape == (160, 160, 3) and len(corners) == len(classes)
        boxes += len(classes)
        assert (corners >= 0).all() and (corners <= 160).all()
        assert ((corners[:, 2:] - corners[:, :2]) >= 1).all()
        if len(classes) == 1:
            strong = pixels[..., classes[0]].astype(int) - pixels[..., 1 - classes[0]] > 60
            rows, columns = np.nonzero(strong)
            found = [columns.min(), rows.min(), columns.max() + 1, rows.max() + 1]
            np.testing.assert_allclose(found, corners[0], atol=3)
    assert boxes > 150


def lite_weights():
    """Weights of the shape of the published network's, drawn."""
    torch.manual_seed(0)
    outputs = (16, 24, 24, 40, 40, 80, 80, 80, 112, 112, 112, 192)
    made = {"_conv_stem.weight": 0.3 * torch.randn(32, 3, 3, 3)} | norm("_bn0", 32)
    before = 32
    for number, (kernel, after) in enumerate(zip(image_teacher.KERNELS, outputs, strict=True)):
        name, wide = f"_blocks.{number}.", before * (6 if number else 1)
        if number:
            made |= {f"{name}_expand_conv.weight": torch.randn(wide, before, 1, 1) / before**0.5}
            made |= norm(f"{name}_bn0", wide)
        made |= {f"{name}_depthwise_conv.weight": torch.randn(wide, 1, kernel, kernel) / kernel}
        made |= {f"{name}_project_conv.weight": torch.randn(after, wide, 1, 1) / wide**0.5}
        made |= norm(f"{name}_bn1", wide) | norm(f"{name}_bn2", after)
        before = after
    return made


def norm(name, channels):
    return {
        f"{name}.weight": 1 + 0.1 * torch.randn(channels),
        f"{name}.bias": 0.1 * torch.randn(channels),
        f"{name}.running_mean": 0.1 * torch.randn(channels),
        f"{name}.running_var": 1 + torch.rand(channels),
    }


def test_the_upper_stages_begin_as_the_published_network():
    """Given what that one sees at stride 8, they see what it sees at strides 16 and 32."""
    weights = lite_weights()
    network = Network(GODWIT, 2).eval()
    image_teacher.begin_with(network, weights)
    eight, sixteen, last = image_teacher.Teacher(weights)(torch.rand(2, 3, 96, 128))
    assert [each.shape[1:] for each in (eight, sixteen, last)] == [(40, 12, 16), (112, 6, 8), (192, 3, 4)]
    with torch.no_grad():
        torch.testing.assert_close(network.stages[2](eight), sixteen, atol=1e-3, rtol=1e-3)
        torch.testing.assert_close(network.stages[3](sixteen), last, atol=1e-3, rtol=1e-3)


def test_features_are_learnt_and_learning_goes_on_where_it_was(tmp_path, capsys):
    weights = lite_weights()
    of = photograph_scenes.made_small(
        [Image.effect_noise((220, 200), 90).convert("RGB")], [solid(90, 90, (200, 30, 40))]
    )
    network = Network(GODWIT, 2)
    image_teacher.begin_with(network, weights)
    some = (network, image_teacher.Teacher(weights), of)
    with pytest.MonkeyPatch.context() as changed:
        changed.setattr(photograph_weights, "BATCH", 2)
        changed.setattr(photograph_weights, "FEATURE_SIDE", 64)
        changed.setattr(photograph_weights, "KEPT_EVERY", 10)
        photograph_weights.learn_features(*some, 10, tmp_path / "kept.safetensors")
        photograph_weights.learn_features(*some, 20, tmp_path / "kept.safetensors")
    told = [line for line in capsys.readouterr().out.splitlines() if line.startswith("features")]
    assert [line.split(":")[0] for line in told] == ["features, step 10", "features, step 20"]
    assert (tmp_path / "kept.txt").read_text() == "20"
