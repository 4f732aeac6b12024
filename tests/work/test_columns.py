"""Labels as columns: whatever happens to the pictures, what is brought up to date equals what is read anew."""

import dataclasses

import numpy as np
import pytest
from sqlalchemy import delete, text

from avocet.store.rows import among
from avocet.store.tables import Box, Part, Picture, PictureState
from avocet.web.kept import MOST_PROJECTS, KeptLabels
from avocet.work.labels import columns
from avocet.work.labels.boxes import NewBox, save_labels
from avocet.work.labels.class_merge import merge_class
from avocet.work.labels.classes import list_classes
from avocet.work.labels.columns import brought_up_to_date, read_columns
from avocet.work.labels.relabelling import change_boxes
from avocet.work.labels.undo import undo_change
from avocet.work.pictures.filing import set_binned, set_part
from avocet.work.problems import NotFound
from avocet.work.project.projects import create_project


def equal(one, other) -> bool:
    pairs = zip(dataclasses.astuple(one), dataclasses.astuple(other), strict=True)
    return all(np.array_equal(a, b) for a, b in pairs)


def do_something(sessions, project_id, random) -> str:
    """One of the things that happen to labels; what was done."""
    with sessions() as session:
        pictures = [each.id for each in session.query(Picture)]
        classes = [each.id for each in list_classes(session, project_id)]
    some = random.choice(pictures, 2, replace=False).tolist()
    what = random.choice(["save", "bin", "restore", "part", "boxes", "merge", "nothing"])
    if what == "part":
        change = set_part(sessions, project_id, some, random.choice([*Part, None]))
    elif what in ("bin", "restore"):
        change = set_binned(sessions, project_id, some, what == "bin")
    elif what == "boxes":
        with sessions() as session:
            ids = [box.id for box in session.query(Box).where(Box.picture_id.in_(some))][:4]
        if not ids:
            return what
        change = change_boxes(sessions, project_id, ids, int(random.choice(classes)))
    elif what == "merge" and len(classes) > 2:
        change = merge_class(sessions, project_id, *random.choice(classes, 2, replace=False).tolist())
    elif what == "save":
        with sessions.begin() as session:
            picture = session.get(Picture, some[0])
            corners = np.sort(random.uniform(0, 100, (3, 2, 2)), axis=1).reshape(3, 4) + np.array(
                [0, 0, 2, 2]
            )
            boxes = [NewBox(int(random.choice(classes)), tuple(each)) for each in corners.tolist()]
            save_labels(session, picture, picture.revision, boxes, PictureState.DONE)
        return what
    else:
        return what
    if change.change_id is not None and random.random() < 0.5:
        undo_change(sessions, project_id, change.change_id)
        return f"{what} and back"
    return what


@pytest.mark.slow
@pytest.mark.parametrize("seed", range(3))
def test_columns_brought_up_to_date_equal_columns_read_anew(data, labelled, seed):
    sessions, random = data[1], np.random.default_rng(seed)
    with sessions() as session:
        kept = read_columns(session, labelled)
    done = []
    for step in range(40):
        done.append(do_something(sessions, labelled, random))
        if step % 3 == 2:
            with sessions() as session:
                kept = brought_up_to_date(session, labelled, kept)
                assert equal(kept, read_columns(session, labelled)), done[-3:]


def test_a_picture_deleted_for_good_is_noticed(data, labelled):
    with data[1].begin() as session:
        before = read_columns(session, labelled)
        session.execute(delete(Picture).where(Picture.id == int(before.picture_ids[0])))
    with data[1]() as session:
        assert equal(brought_up_to_date(session, labelled, before), read_columns(session, labelled))


def test_where_nothing_changed_nothing_is_read(data, labelled):
    with data[1]() as session:
        before = read_columns(session, labelled)
        assert brought_up_to_date(session, labelled, before) is before


def test_a_split_reads_no_box_again(data, labelled, monkeypatch):
    with data[1]() as session:
        before = read_columns(session, labelled)
    asked = []
    monkeypatch.setattr(columns, "among", lambda column, ids: asked.append(ids) or among(column, ids))
    set_part(data[1], labelled, before.picture_ids.tolist(), Part.TEST)
    with data[1].begin() as session:
        picture = session.get(Picture, int(before.picture_ids[1]))
        save_labels(session, picture, picture.revision, [], PictureState.EMPTY)
    with data[1]() as session:
        assert equal(brought_up_to_date(session, labelled, before), read_columns(session, labelled))
    assert asked == [[int(before.picture_ids[1])]]


def test_a_stamp_only_rises(data, labelled):
    with data[1].begin() as session:
        first = read_columns(session, labelled).stamp
        # Whatever writes to a picture: the stamps are the database's own.
        session.execute(text("UPDATE picture SET part = 'test' WHERE id = 1"))
    with data[1].begin() as session:
        second = read_columns(session, labelled).stamp
        session.execute(text("DELETE FROM picture WHERE id = 2"))
    with data[1]() as session:
        assert first < second < read_columns(session, labelled).stamp


class TestKeptLabels:
    """What a server keeps of the labels."""

    def test_they_are_those_of_now(self, data, labelled):
        kept = KeptLabels(data[1])
        before = kept.of(labelled)
        assert kept.of(labelled) is before
        set_part(data[1], labelled, [1], Part.TEST)
        with data[1]() as session:
            assert equal(kept.of(labelled), read_columns(session, labelled))

    def test_a_project_that_is_not_there(self, data, labelled):
        with pytest.raises(NotFound, match="no project 99"):
            KeptLabels(data[1]).of(99)

    def test_only_those_asked_for_last_are_kept(self, data, labelled):
        kept = KeptLabels(data[1])
        with data[1].begin() as session:
            others = [create_project(session, f"Belt {number}").id for number in range(MOST_PROJECTS)]
        first = kept.of(labelled)
        for each in others:
            kept.of(each)
        assert kept.of(labelled) is not first and equal(kept.of(labelled), first)
