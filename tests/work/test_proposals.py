"""Proposals: made by a model for what is unlabelled, refused for good, and counted for what they were worth."""

import numpy as np
import pytest

from avocet.core.errors import InputError
from avocet.demo.belt import render_still
from avocet.jobs.worker import run_job
from avocet.store.tables import JobState, Picture, PictureState, Proposal, now
from avocet.work.jobs import get_job
from avocet.work.labels.boxes import NewBox, save_labels
from avocet.work.labels.classes import list_classes
from avocet.work.use.proposals import (
    keep_proposals,
    labour,
    least_sure,
    open_proposals,
    proposals_of,
    proposed_pictures,
    refuse,
)
from avocet.work.use.proposing import start_proposing
from tests.conftest import add_still
from tests.ready import add_trained_run


def found(name, box, score=0.9):
    return {"class": name, "score": score, "box": box}


ROLL, RING = found("roll", [10, 10, 60, 60]), found("ring", [200, 100, 260, 160], 0.7)


@pytest.fixture
def pictures(data, labelled):
    """The pictures of the project, and the numbers of its classes; none is labelled any more."""
    _, sessions = data
    with sessions.begin() as session:
        some = session.query(Picture).order_by(Picture.id).all()
        for each in some:
            save_labels(session, each, each.revision, [], PictureState.UNLABELLED)
        names = {each.name: each.id for each in list_classes(session, labelled)}
        return [each.id for each in some], names


def label(session, picture_id, *boxes):
    picture = session.get(Picture, picture_id)
    made = [NewBox(class_id, tuple(box)) for class_id, box in boxes]
    save_labels(session, picture, picture.revision, made, PictureState.DONE if made else PictureState.EMPTY)


def test_what_was_refused_does_not_come_back_from_the_same_model(data, pictures):
    _, sessions = data
    first = pictures[0][0]
    with sessions.begin() as session:
        assert keep_proposals(session, first, [ROLL, RING], "run 1") == 2
        assert [each.class_name for each in open_proposals(session, first)] == ["roll", "ring"]
        (ring,) = [each.id for each in open_proposals(session, first) if each.class_name == "ring"]
        assert [each.class_name for each in refuse(session, first, [ring])] == ["roll"]
        near = found("ring", [204, 103, 262, 161])
        other = found("roll", [204, 103, 262, 161])
        assert keep_proposals(session, first, [near, other, ROLL], "run 1") == 2
        assert {each.class_name for each in open_proposals(session, first)} == {"roll"}
        # Another model may see it otherwise; and what was refused by mistake is there again.
        assert keep_proposals(session, first, [near], "run 2") == 1
        assert len(refuse(session, first, [ring], refused=False)) == 2
        with pytest.raises(InputError, match="no proposal 9999"):
            refuse(session, first, [9999])
        with pytest.raises(InputError, match="no proposal"):
            refuse(session, pictures[0][1], [ring])


def test_labour_is_counted_from_the_boxes_that_are_there(data, labelled, pictures):
    _, sessions = data
    (first, second, third, *_), names = pictures
    hand = (names["loaf"], [400, 300, 460, 340])
    with sessions.begin() as session:
        for each in (first, second):
            keep_proposals(session, each, [ROLL, RING], "run 1")
        assert proposed_pictures(session, labelled) == (2, 4)
        assert proposals_of(session, [first, third]) == {first: 2}
        assert labour(session, labelled).pictures == 0, "nothing is labelled yet"
        label(session, first, (names["roll"], ROLL["box"]), (names["ring"], RING["box"]), hand)
        told = labour(session, labelled)
        assert (told.kept, told.corrected, told.by_hand, told.refused) == (2, 0, 1, 0)
        assert proposed_pictures(session, labelled) == (1, 2)
        # Moved after it was kept, and given another class: both were corrected.
        label(session, first, (names["roll"], [13, 10, 63, 60]), (names["roll"], RING["box"]))
        told = labour(session, labelled)
        assert (told.kept, told.corrected, told.by_hand, told.refused) == (0, 2, 0, 0)
        label(session, second)
        label(session, third, hand)
        told = labour(session, labelled)
        assert (told.pictures, told.corrected, told.by_hand, told.refused) == (2, 2, 0, 2), (
            "a picture that nothing was proposed for does not count"
        )


def test_the_least_sure_picture_comes_next_and_none_that_looks_the_same(data, pictures):
    _, sessions = data
    here, alike, other, done, nothing, binned = pictures[0]
    with sessions.begin() as session:
        assert least_sure(session, session.get(Picture, here)) is None
        for picture_id, score, look in (
            (here, 0.2, 0), (alike, 0.4, 0b11111), (other, 0.6, -1), (done, 0.1, -1), (binned, 0.1, -1),
        ):  # fmt: skip
            keep_proposals(session, picture_id, [ROLL, found("ring", RING["box"], score)], "run 1")
            session.get(Picture, picture_id).look = look
        session.get(Picture, binned).binned_at = now()
        label(session, done, (pictures[1]["roll"], ROLL["box"]))
        assert least_sure(session, session.get(Picture, here)) == other, "the other one looks like this one"
        assert least_sure(session, session.get(Picture, nothing)) == here
        session.get(Picture, other).look = 0b1
        assert least_sure(session, session.get(Picture, here)) == alike, (
            "where all look the same, the least sure"
        )


def test_two_boxes_do_not_share_one_proposal(data, labelled, pictures):
    _, sessions = data
    first, names = pictures[0][0], pictures[1]
    with sessions.begin() as session:
        keep_proposals(session, first, [ROLL], "run 1")
        label(session, first, (names["roll"], [12, 12, 62, 62]), (names["roll"], ROLL["box"]))
        told = labour(session, labelled)
        assert (told.kept, told.corrected, told.by_hand, told.refused) == (1, 0, 1, 0)


@pytest.mark.slow
def test_a_model_proposes_for_what_is_unlabelled(data, labelled, tmp_path):
    folder, sessions = data
    with sessions.begin() as session:
        run = add_trained_run(session, folder, labelled)
        with pytest.raises(InputError, match="no unlabelled picture"):
            start_proposing(session, folder, run.id, None, None)
        scenes = [render_still(700 + number) for number in range(3)]
        fresh = [
            add_still(session, folder, labelled, scene, f"new-{number}.jpg", tmp_path).id
            for number, scene in enumerate(scenes)
        ]
        folder.picture(labelled, session.get(Picture, fresh[2]).content_hash, ".jpg").write_bytes(b"broken")
        job = start_proposing(session, folder, run.id, None, None)
        session.flush()
        number = job.id
    run_job(sessions, folder, number)
    with sessions() as session:
        job = get_job(session, number)
        assert job.state == JobState.DONE, job.message
        assert {each.picture_id for each in session.query(Proposal)} == set(fresh[:2]), (
            "none for what is labelled"
        )
        for picture_id, scene in zip(fresh[:2], scenes, strict=False):
            proposed = open_proposals(session, picture_id)
            assert abs(len(proposed) - len(scene.boxes)) <= 1 and {each.model for each in proposed} == {
                "run 1"
            }
            for each in proposed:
                distance = np.abs(scene.boxes - [each.x1, each.y1, each.x2, each.y2]).max(axis=1).min()
                assert distance < 12 and each.score >= 0.4
    with sessions.begin() as session:
        number = start_proposing(session, folder, 1, None, 0.3).id
    run_job(sessions, folder, number)
    with sessions() as session:
        outcome = get_job(session, number).outcome
        assert outcome["looked_at"] == 1 and outcome["boxes"] == 0, (
            "only the one that could not be read is asked again"
        )
