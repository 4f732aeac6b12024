"""The scripts that learn what is shipped: the parts that photographs fall into, their boxes, and the learning itself."""

import sys
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from avocet.core.labels.edges import FACTS, EdgePlaces

sys.path.insert(0, str(Path(__file__).parent.parent / "scripts"))

import edge_weights
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
