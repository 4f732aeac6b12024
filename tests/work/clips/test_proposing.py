"""Objects that a model proposes lie where it found them, whatever part of the clip is looked at and whatever it missed."""

from types import SimpleNamespace

import numpy as np
import pytest

from avocet.core.boxes import iou_of_pairs
from avocet.core.raw.candidates import Candidates
from avocet.store.tables import Clip
from avocet.work.clips import proposing
from avocet.work.clips.clips import ClipChoice, choose
from avocet.work.clips.proposing import do_propose_tracks
from avocet.work.clips.tracks import labels_of_track, tracks_of_clip
from avocet.work.job_kinds import PROPOSE_TRACKS
from tests.conftest import task_of
from tests.work.clips.conftest import FRAMES


class KnowsTheBelt:
    """A model that is right, but for a trembling of a pixel, and blind on some frames."""

    def __init__(self, filmed, missed=()):
        self.classes = ["roll", "croissant", "loaf", "pretzel", "ring"]
        self.about = {"classes": self.classes, "minimum_score": 0.5}
        self._filmed, self._missed = filmed, set(missed)
        self._small = [each[::20, ::20].astype(int) for each in filmed.frames]
        self._random = np.random.default_rng(4)

    def candidates(self, pictures, minimum_score):
        return [self._one(each) for each in pictures]

    def _one(self, pixels):
        small = pixels[::20, ::20].astype(int)
        number = int(np.argmin([np.abs(each - small).mean() for each in self._small]))
        whole = [] if number in self._missed else self._filmed.whole_on(number)
        boxes = self._filmed.within(number)[0][whole]
        kinds = np.array([self.classes.index(self._filmed.names[each]) for each in whole], dtype=np.int64)
        return Candidates(boxes + self._random.normal(0, 0.5, boxes.shape), np.full(len(whole), 0.9), kinds)


@pytest.mark.slow
@pytest.mark.parametrize(("first", "missed"), [(0, ()), (12, ()), (0, range(14, 23)), (8, range(18, 27))])
def test_boxes_lie_on_the_frames_on_which_they_were_found(
    data, clip, filmed, class_ids, monkeypatch, first, missed
):
    monkeypatch.setattr(proposing, "open_bundles", lambda _: KnowsTheBelt(filmed, missed))
    monkeypatch.setattr(proposing, "chosen_model", lambda *_: SimpleNamespace(bundles=None))
    with data[1].begin() as session:
        choose(session, clip.id, FRAMES, ClipChoice("objects", first, None))
    do_propose_tracks(
        task_of(data, PROPOSE_TRACKS, clip_id=clip.id, run_id=1, minimum_score=0.5, class_map={})
    )
    with data[1]() as session:
        assert session.get(Clip, clip.id).first == first
        found = [labels_of_track(row) for row in tracks_of_clip(session, clip.id)]
    assert len(found) > 5
    compared = 0
    for labels in found:
        frames = np.arange(FRAMES)[labels.trajectory().in_sight(np.arange(FRAMES))]
        assert frames.min() >= first
        boxes = labels.trajectory().boxes_at(frames)
        # Of the goods the one that it follows, on every frame that it is told for: also those on which it was missed.
        overlap = np.array(
            [
                iou_of_pairs(boxes, np.array([filmed.within(number)[0][good] for number in frames]))
                for good in range(len(filmed.names))
            ]
        )
        best = overlap[overlap.mean(axis=1).argmax()]
        assert best.min() > 0.85, (labels.spans, best.round(2))
        compared += len(best)
    assert compared > 150
