"""The demo scene: the same from a seed, with boxes that fit what is drawn."""

import numpy as np
import pytest

from avocet.demo import project
from avocet.demo.belt import HEIGHT, WIDTH, MovingBelt, render_still
from avocet.demo.goods import NAMES, draw_good
from avocet.store.tables import Picture, PictureState
from avocet.work.project.projects import list_projects
from avocet.work.project.stages import stages


def test_same_seed_same_frame():
    first, again, other = render_still(5), render_still(5), render_still(6)
    np.testing.assert_array_equal(first.pixels, again.pixels)
    assert (first.boxes == again.boxes).all() and first.classes == again.classes
    assert not np.array_equal(first.pixels, other.pixels)


@pytest.mark.parametrize("seed", range(5))
@pytest.mark.slow
def test_boxes_lie_in_the_frame_with_a_class_each(seed):
    frame = render_still(seed)
    assert (frame.boxes[:, :2] >= 0).all() and (frame.boxes[:, 2:] <= (WIDTH, HEIGHT)).all()
    assert ((frame.boxes[:, 2:] - frame.boxes[:, :2]) > 5).all()
    assert len(frame.boxes) == len(frame.classes) == len(frame.burnt) and set(frame.classes) <= set(NAMES)


@pytest.mark.parametrize("name", NAMES)
@pytest.mark.parametrize("angle", [0, 37])
def test_a_tile_is_cut_to_its_good(name, angle):
    alpha = np.asarray(draw_good(name, 100, angle, False, np.random.default_rng(1)).getchannel("A"))
    for edge in (alpha[0], alpha[-1], alpha[:, 0], alpha[:, -1]):
        assert edge.max() > 96


def test_burnt_goods_are_darker():
    def brightness(burnt):
        tile = np.asarray(draw_good("roll", 100, 0, burnt, np.random.default_rng(2)), float)
        return tile[..., :3][tile[..., 3] > 200].mean()

    assert brightness(True) < 0.7 * brightness(False)


def test_goods_travel_with_the_belt():
    moving = MovingBelt(50, 3, speed=10.0)
    frames = [moving.frame(number) for number in range(3)]
    whole = [[box for box in frame.boxes if box[1] > 0 and box[3] < HEIGHT] for frame in frames]
    for box in whole[0]:
        moved = box + np.array([0, 10, 0, 10])
        if moved[3] < HEIGHT:
            assert any(np.allclose(moved, other) for other in whole[1])


@pytest.mark.slow
def test_demo_project_is_made_once(data, monkeypatch):
    folder, sessions = data
    monkeypatch.setattr(project, "PARTS", ((project.Part.TRAINING, 2), (project.Part.VALIDATION, 1)))
    monkeypatch.setattr(project, "UNLABELLED", 1)
    monkeypatch.setattr(project, "CLIP_SECONDS", 1)
    assert project.make_demo_project(sessions, folder)
    assert not project.make_demo_project(sessions, folder)
    with sessions() as session:
        only = list_projects(session)
        assert len(only) == 1
        figures = stages(session, only[0].id)
        assert (figures.pictures, figures.labelled) == (4, 3)
        first = session.query(Picture).first()
        expected = render_still(project.FIRST_SEED)
        np.testing.assert_allclose([box.corners for box in first.boxes], expected.boxes)
        assert first.state == PictureState.DONE
        assert [bool(box.attributes) for box in first.boxes] == expected.burnt
