"""What speaks for the places of an edge, on scenes whose edges are known."""

import numpy as np
import pytest

from avocet.core.labels.edges import FACTS, EdgePlaces, chosen_place, edge_places, oriented, sharpest_near
from avocet.core.labels.tighten import tighten

SQUARE = np.full((100, 100, 3), 200, np.uint8)
SQUARE[30:70, 30:70] = 60
BOX = np.array([24.0, 24.0, 76.0, 76.0])
LIKELY = np.where(SQUARE[..., 0] == 60, 5.0, -4.0)
MASK = SQUARE[..., 0] == 60


@pytest.mark.parametrize("edge", range(4))
def test_every_fact_speaks_for_the_true_place(edge):
    """The same from all four sides, as the scene is."""
    found = edge_places(SQUARE.astype(np.float32), LIKELY, MASK, BOX, edge, 0.2)
    assert found.drawn == 24 and found.places.tolist() == list(range(13, 36))
    of = dict(zip(FACTS, found.facts.T, strict=True))
    true = found.places.tolist().index(30)
    assert of["step"].argmax() == true
    for name in ("strange inside", "likely inside", "cover inside", "touched inside"):
        assert of[name][true] == of[name].max(), name
        assert of[name][true] > of[name][true - 4], name
    for name in ("strange outside", "likely outside", "touched outside", "cover outside"):
        assert of[name][true] < of[name][true + 3], name
    assert of["inwards"][true] == pytest.approx(6 / 52 * 5) and of["outwards"][true] == 0
    assert (of["as drawn"].sum(), of["next to it"].sum(), of["beyond"].sum()) == (1, 2, 11)


def test_an_edge_moves_only_where_that_is_so_much_likelier():
    places = np.arange(10, 21)
    facts = np.zeros((11, len(FACTS)))
    facts[8, 0] = 1.0
    weights = np.zeros(len(FACTS))
    weights[0] = 5.0
    found = EdgePlaces(places, facts, 12.0)
    # The places near 18 have e^5 + 2 of e^5 + 10 parts, those near 12 three.
    certain = float(np.log((np.exp(5) + 2) / 3))
    assert chosen_place(found, weights, certain - 0.01) == 18
    assert chosen_place(found, weights, certain + 0.01) is None
    assert chosen_place(EdgePlaces(places, facts, 17.0), weights, 0.0) is None, "a neighbour is as good"
    assert chosen_place(EdgePlaces(places[:0], facts[:0], 12.0), weights, 0.0) is None


def test_a_crop_is_turned_so_that_every_edge_comes_from_the_left():
    values = np.arange(12).reshape(3, 4)
    for edge, outside in enumerate((values[:, 0], values[0], values[:, -1], values[-1])):
        assert oriented(values, edge)[:, 0].tolist() == outside.tolist()


@pytest.mark.parametrize("edge", range(4))
@pytest.mark.parametrize("off", [-2, -1, 0, 1, 2])
def test_a_sharp_edge_is_found_to_the_pixel_and_a_soft_one_stays(edge, off):
    box = np.array([30.0, 30.0, 70.0, 70.0])
    true = box[edge]
    box[edge] += off
    assert sharpest_near(SQUARE, box, edge, 2) == true
    soft = np.tile((np.abs(np.arange(100) - 50) * 4).astype(np.uint8), (100, 1))
    picture = np.repeat((soft if edge % 2 == 0 else soft.T)[..., None], 3, axis=2)
    assert sharpest_near(picture, box, edge, 2) == box[edge]


def test_an_edge_on_the_border_of_the_picture_stays():
    picture = SQUARE.copy()
    picture[30:70, 8:60] = 60
    assert tighten(picture, [0, 25, 75, 75]).tolist() == [0, 30, 70, 70]
