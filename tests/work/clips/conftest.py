"""A clip of the belt whose truth is known, in a project with the goods as classes."""

import numpy as np
import pytest

from avocet.core.boxes import clip as cut
from avocet.demo.belt import HEIGHT, WIDTH, MovingBelt
from avocet.media.clip_writer import ClipWriter
from avocet.store.tables import Clip
from avocet.work.clips.clips import add_clip
from avocet.work.clips.frames import frames_of_clip
from avocet.work.labels.classes import list_classes

FRAMES = 40


class FilmedBelt:
    """The belt as it was filmed: pixels, and the whole box of every good on every frame."""

    def __init__(self) -> None:
        self.belt = MovingBelt(31, FRAMES)
        self.frames = [self.belt.frame(number).pixels for number in range(FRAMES)]
        self.names = [good.name for good in self.belt._goods]
        sizes = np.array([[good.tile.width, good.tile.height] for good in self.belt._goods])
        middles = np.array([[good.x, good.y] for good in self.belt._goods])
        corner = np.round(middles - sizes / 2)
        self.boxes = np.array(
            [
                np.hstack([moved, moved + sizes])
                for n in range(FRAMES)
                for moved in [corner + np.array([0, 6 * n])]
            ]
        )

    def within(self, number):
        """Boxes of a frame cut to it, and which share of each good is in it."""
        inside = cut(self.boxes[number], WIDTH, HEIGHT)
        sides = (inside[:, 2:] - inside[:, :2]).prod(axis=1)
        return inside, sides / (self.boxes[number][:, 2:] - self.boxes[number][:, :2]).prod(axis=1)

    def whole_on(self, number):
        """Goods that are all in a frame."""
        return np.flatnonzero(self.within(number)[1] > 0.999).tolist()


@pytest.fixture(scope="session")
def filmed():
    return FilmedBelt()


@pytest.fixture(scope="session")
def belt_file(filmed, tmp_path_factory):
    path = tmp_path_factory.mktemp("filmed") / "belt.mp4"
    with ClipWriter(path, WIDTH, HEIGHT, 25) as writer:
        for pixels in filmed.frames:
            writer.write(pixels)
    return path


@pytest.fixture
def clip(data, labelled, belt_file):
    """The clip in the project that has labelled pictures."""
    folder, sessions = data
    with sessions.begin() as session:
        made = add_clip(session, folder, labelled, belt_file, "belt.mp4")
    assert len(frames_of_clip(folder, made)) == FRAMES
    return made


@pytest.fixture
def class_ids(data, labelled, clip):
    with data[1]() as session:
        assert session.get(Clip, clip.id)
        return {each.name: each.id for each in list_classes(session, labelled)}
