"""Following one object, on scenes whose truth is known to the pixel."""

import numpy as np
import pytest
from scipy import ndimage

from avocet.core.boxes import clip, iou_of_pairs
from avocet.core.tracks.following import UNSURE, Follower, follow_object

WIDTH, HEIGHT = 320, 220


def texture(random, height, width):
    """A patch with structure at several sizes."""
    coarse = ndimage.zoom(random.uniform(0, 255, (height // 8 + 2, width // 8 + 2, 3)), (8, 8, 1), order=1)
    return coarse[:height, :width] * 0.8 + random.uniform(0, 50, (height, width, 3))


class Scene:
    """A thing that moves over a background, its size, light and cover given frame by frame."""

    def __init__(self, seed, frames=50, growth=0.0, dimming=0.0, speed=3.0):
        random = np.random.default_rng(seed)
        self._back = texture(random, HEIGHT, WIDTH) * 0.6
        self._thing = texture(random, 48, 60)
        turn = random.uniform(0, 2 * np.pi)
        step = speed * np.array([np.cos(turn), np.sin(turn)])
        middle = np.array([WIDTH / 2, HEIGHT / 2]) - step * frames / 2
        scale = np.exp(growth * np.arange(frames))
        self.middles = middle + np.arange(frames)[:, None] * step
        half = np.array([30, 24]) * scale[:, None]
        self.boxes = np.hstack([self.middles - half, self.middles + half])
        self._light = 1 - dimming * np.arange(frames) / frames
        self._noise = np.random.default_rng([seed, 1])

    def frame(self, number, cover=None):
        x1, y1, x2, y2 = np.round(self.boxes[number]).astype(int)
        pixels = self._back.copy()
        zoom = ((y2 - y1) / 48, (x2 - x1) / 60, 1)
        thing = ndimage.zoom(self._thing, zoom, order=1)[: y2 - y1, : x2 - x1]
        top, left = max(0, -y1), max(0, -x1)
        part = thing[top : top + max(0, HEIGHT - max(y1, 0)), left : left + max(0, WIDTH - max(x1, 0))]
        pixels[max(y1, 0) : max(y1, 0) + part.shape[0], max(x1, 0) : max(x1, 0) + part.shape[1]] = part
        if cover is not None:
            a, b, c, d = cover
            pixels[b:d, a:c] = 120
        pixels = pixels * self._light[number] + self._noise.normal(0, 4, pixels.shape)
        return np.clip(pixels, 0, 255).astype(np.uint8)


def followed(scene, frames=50):
    return list(follow_object((scene.frame(number) for number in range(frames)), scene.boxes[0]))


@pytest.mark.slow
@pytest.mark.parametrize("seed", range(6))
@pytest.mark.parametrize(
    "change", [{}, {"growth": 0.008}, {"growth": -0.006}, {"dimming": 0.5}, {"speed": 1.2}]
)
def test_what_stays_in_sight_is_followed(seed, change):
    scene = Scene(seed, **change)
    found = followed(scene)
    assert len(found) == 49 and all(each.seen for each in found)
    right = iou_of_pairs([each.box for each in found], clip(scene.boxes[1:], WIDTH, HEIGHT))
    assert right.mean() > 0.85 and right.min() > 0.65, (right.mean(), right.min())


@pytest.mark.slow
@pytest.mark.parametrize("seed", range(4))
def test_what_is_covered_for_a_moment_is_found_again_and_the_cover_is_told(seed):
    scene = Scene(seed, speed=2.0)
    hidden = range(20, 27)
    frames = [
        scene.frame(number, np.round(scene.boxes[number]).astype(int) if number in hidden else None)
        for number in range(50)
    ]
    found = list(follow_object(iter(frames), scene.boxes[0]))
    assert len(found) == 49
    sure = np.array([each.sureness for each in found])
    assert (sure[[number - 1 for number in hidden]] < UNSURE).all(), "what is covered is not called sure"
    right = iou_of_pairs([each.box for each in found[30:]], scene.boxes[31:])
    assert right.mean() > 0.8


def test_what_is_gone_for_good_is_given_up():
    scene = Scene(2, speed=1.0)
    empty = Scene(2, speed=1.0)
    empty._thing = np.zeros_like(empty._thing)
    frames = [scene.frame(number) for number in range(10)]
    gone = np.clip(scene._back + np.random.default_rng(0).normal(0, 4, scene._back.shape), 0, 255)
    frames += [gone.astype(np.uint8)] * 30
    found = list(follow_object(iter(frames), scene.boxes[0]))
    assert len(found) < 39 and not found[-1].seen
    assert not any(each.seen and each.sureness >= UNSURE for each in found[10:]), (
        "nothing there is called sure"
    )


@pytest.mark.slow
def test_what_leaves_the_picture_ends_there_and_its_box_is_cut():
    scene = Scene(1, frames=120, speed=4.0)
    scene.middles = np.column_stack([160 + 3.0 * np.arange(120), np.full(120, 110.0)])
    scene.boxes = np.hstack([scene.middles - np.array([30, 24]), scene.middles + np.array([30, 24])])
    found = list(follow_object((scene.frame(number) for number in range(120)), scene.boxes[0]))
    end = len(found)
    visible = (clip(scene.boxes, WIDTH, HEIGHT)[:, 2:] - clip(scene.boxes, WIDTH, HEIGHT)[:, :2]).clip(0)
    share = visible.prod(axis=1) / (60 * 48)
    assert 0.1 < share[end] < 0.45, "it ends when little of it is left"
    assert max(each.box[2] for each in found) <= WIDTH


def test_a_box_outside_the_frame_is_refused():
    with pytest.raises(ValueError, match="no area within the frame"):
        Follower(np.zeros((20, 20, 3), np.uint8), [30, 30, 40, 40])
    with pytest.raises(ValueError, match="no area"):
        Follower(np.zeros((20, 20, 3), np.uint8), [3, 3, 3, 10])


@pytest.mark.parametrize("box", [[0, 0, 1, 1], [0, 0, 20, 1], [5, 5, 7, 19]])
def test_tiny_boxes_and_plain_frames_break_nothing(box):
    frames = [np.full((20, 20, 3), 90, np.uint8)] * 4
    assert all(np.isfinite(each.box).all() for each in follow_object(iter(frames), box))
