"""Labels of many pictures changed at once equal those changed one by one, and meet nobody's work."""

import json
from dataclasses import replace

import numpy as np
import pytest

from avocet.formats.files import LabelFiles
from avocet.formats.kinds import FORMATS, what_is_lost
from avocet.store.rows import among
from avocet.store.tables import Box, ObjectClass, Part, Picture, PictureState
from avocet.work.exchange.project_labels import preview
from avocet.work.exchange.written import export_record, held_now
from avocet.work.labels import class_merge, many
from avocet.work.labels.boxes import NewBox, boxes_of, labels_of, save_labels
from avocet.work.labels.changes import begin_change, changing_classes, digest
from avocet.work.labels.class_merge import merge_class
from avocet.work.labels.classes import add_class, change_class, list_classes, retire_class
from avocet.work.labels.columns import read_columns
from avocet.work.labels.many import Rewritten, change_labels, keeping_state
from avocet.work.labels.relabelling import change_boxes, mark_done
from avocet.work.labels.rows import picture_rows
from avocet.work.labels.undo import undo_change
from avocet.work.pictures.splits import labelled_by_part
from avocet.work.problems import Conflict
from avocet.work.project.stages import stages
from avocet.work.snapshots.snapshots import freeze, labels_now


@pytest.fixture
def sessions(data, labelled):
    return data[1]


def everything(sessions):
    """Labels, state and count of boxes of all pictures, read one by one."""
    with sessions() as session:
        return {
            each.id: labels_of(each) | {"revision": 0, "count": each.box_count}
            for each in session.query(Picture).order_by(Picture.id)
        }


def begun(sessions, project_id):
    with sessions.begin() as session:
        return begin_change(session, project_id, "Something").id


def test_rows_read_are_the_labels(sessions):
    with sessions.begin() as session:
        picture = session.get(Picture, 1)
        odd = replace(boxes_of(picture)[0], attributes={"burnt": True, "grams": 80.5}, track=7, crowd=True)
        save_labels(session, picture, picture.revision, [odd, *boxes_of(picture)[1:]], PictureState.DONE)
    with sessions() as session:
        rows = {each.id: each for each in picture_rows(session, [among(Picture.id, [1, 2, 3, 999])])}
        assert sorted(rows) == [1, 2, 3]
        for number, labels in rows.items():
            picture = session.get(Picture, number)
            assert labels.record() == labels_of(picture) and labels.box_ids == [
                box.id for box in picture.boxes
            ]
            assert digest(labels.record()) == digest(labels_of(picture))


@pytest.mark.parametrize("seed", range(3))
def test_written_at_once_equals_saved_one_by_one(sessions, labelled, seed):
    random = np.random.default_rng(seed)
    before = everything(sessions)
    with sessions() as session:
        classes = [each.id for each in list_classes(session, labelled)]

    def edited(boxes):
        """Some boxes gone, some moved, some of another class."""
        kept = [box for box in boxes if random.random() < 0.7]
        moved = [
            replace(box, corners=(1.0, 2.0, 30.0, 40.0)) if random.random() < 0.3 else box for box in kept
        ]
        return [replace(box, class_id=int(random.choice(classes))) for box in moved]

    wanted = {number: edited([as_box(box) for box in labels["boxes"]]) for number, labels in before.items()}
    with sessions.begin() as session:
        for number, boxes in wanted.items():
            picture = session.get(Picture, number)
            save_labels(session, picture, picture.revision, boxes, picture.state, by_hand=False)
    one_by_one = everything(sessions)
    with sessions.begin() as session:
        for number, labels in before.items():
            picture = session.get(Picture, number)
            save_labels(
                session, picture, picture.revision, list(map(as_box, labels["boxes"])), PictureState.DONE
            )
    assert everything(sessions) == before
    change = begun(sessions, labelled)
    change_labels(sessions, change, list(wanted), lambda labels: keeping_state(labels, wanted[labels.id]))
    assert everything(sessions) == one_by_one
    assert undo_change(sessions, labelled, change).kept == 0
    assert everything(sessions) == before


def as_box(box):
    return NewBox(box["class_id"], tuple(box["corners"]), box["crowd"], box["attributes"], box["track"])


def test_a_picture_saved_in_between_is_edited_as_it_was_saved(sessions, labelled, monkeypatch):
    """Somebody saves between reading and writing: the edit is made again on what was saved."""
    real, met = many.write_labels, []

    def write_late(session, change_id, planned):
        if not met:
            met.append(1)
            picture = session.get(Picture, 2)
            save_labels(session, picture, picture.revision, boxes_of(picture)[:1], PictureState.DONE)
        return real(session, change_id, planned)

    monkeypatch.setattr(many, "write_labels", write_late)
    with sessions() as session:
        target = list_classes(session, labelled)[-1].id

    def turn(labels):
        return Rewritten([replace(box, class_id=target) for box in labels.boxes], labels.state)

    assert change_labels(sessions, begun(sessions, labelled), [1, 2, 3], turn) == 3
    after = everything(sessions)
    assert len(after[2]["boxes"]) == 1
    assert {box["class_id"] for number in (1, 2, 3) for box in after[number]["boxes"]} == {target}


def test_boxes_that_only_change_class_stay_the_same_rows(sessions, labelled):
    with sessions() as session:
        ids = [box.id for box in session.get(Picture, 1).boxes]
        target = list_classes(session, labelled)[0].id
    change_boxes(sessions, labelled, ids, target)
    with sessions() as session:
        assert [box.id for box in session.get(Picture, 1).boxes] == ids


def test_undoing_an_earlier_change_leaves_later_names_alone(sessions, labelled):
    """What a change did not do to the classes is not undone with it."""
    with sessions() as session:
        first, second, third, *_ = [each.id for each in list_classes(session, labelled)]
    merged = merge_class(sessions, labelled, first, second)
    with sessions.begin() as session:
        change_class(session, labelled, second, "bagel", "#112233")
        retire_class(session, labelled, third)
    undo_change(sessions, labelled, merged.change_id)
    with sessions() as session:
        shown = {
            each.id: (each.name, each.colour, each.retired_at is None)
            for each in list_classes(session, labelled, True)
        }
    assert shown[second] == ("bagel", "#112233", True)
    assert shown[first][2] and not shown[third][2]


class TestMerging:
    """Statements over all boxes of a class do what an edit of every picture would."""

    @pytest.fixture
    def two(self, sessions, labelled):
        with sessions() as session:
            return [each.id for each in list_classes(session, labelled)][:2]

    def test_every_box_is_turned_and_goes_back(self, sessions, labelled, two, monkeypatch):
        monkeypatch.setattr(class_merge, "AT_ONCE", 2)
        before = everything(sessions)
        first, second = two
        merged = merge_class(sessions, labelled, first, second)
        expected = {number: {**each, "boxes": [
            {**box, "class_id": second if box["class_id"] == first else box["class_id"]} for box in each["boxes"]
        ]} for number, each in before.items()}  # fmt: skip
        assert everything(sessions) == expected
        assert merged.changed == sum(
            box["class_id"] == first for each in before.values() for box in each["boxes"]
        )
        undone = undo_change(sessions, labelled, merged.change_id)
        assert undone.kept == 0 and everything(sessions) == before

    def test_a_save_on_what_was_there_before_is_refused(self, sessions, labelled, two):
        with sessions() as session:
            row = session.query(Box).filter_by(class_id=two[0]).first()
            revision = row.picture.revision
        merge_class(sessions, labelled, *two)
        with sessions.begin() as session, pytest.raises(Conflict):
            save_labels(session, session.get(Picture, row.picture_id), revision, [], PictureState.EMPTY)

    def test_boxes_that_somebody_worked_on_since_stay_as_they_are(self, sessions, labelled, two):
        first, second = two
        with sessions() as session:
            number = session.query(Box).filter_by(class_id=first).first().picture_id
        merged = merge_class(sessions, labelled, first, second)
        with sessions.begin() as session:
            picture = session.get(Picture, number)
            boxes = boxes_of(picture)
            places = [place for place, box in enumerate(boxes) if box.class_id == second]
            boxes[places[0]] = replace(boxes[places[0]], corners=(1.0, 2.0, 30.0, 40.0))
            save_labels(session, picture, picture.revision, boxes, PictureState.DONE)
            saved = labels_of(picture)
        others = {other: each for other, each in everything(sessions).items() if other != number}
        undone = undo_change(sessions, labelled, merged.change_id)
        after = everything(sessions)
        assert after[number]["boxes"][places[0]] == saved["boxes"][places[0]]
        assert others != {other: each for other, each in after.items() if other != number}
        assert undone.pictures > 0

    def test_one_drawn_meanwhile_is_turned_as_well_and_goes_back(self, sessions, labelled, two, monkeypatch):
        first, second = two
        drawn, real = [], class_merge.in_portions

        def drawing_at_the_end(*given):
            yield from real(*given)
            if not drawn:
                with sessions.begin() as session:
                    picture = session.query(Box).filter_by(class_id=second).first().picture
                    drawn.append(picture.id)
                    boxes = [*boxes_of(picture), NewBox(first, (5, 6, 25, 36))]
                    save_labels(session, picture, picture.revision, boxes, PictureState.DONE)

        monkeypatch.setattr(class_merge, "in_portions", drawing_at_the_end)
        before = everything(sessions)
        merged = merge_class(sessions, labelled, first, second)
        assert first not in {
            box["class_id"] for each in everything(sessions).values() for box in each["boxes"]
        }
        undo_change(sessions, labelled, merged.change_id)
        after = everything(sessions)
        assert after[drawn[0]]["boxes"][:-1] == before[drawn[0]]["boxes"]
        assert after[drawn[0]]["boxes"][-1]["class_id"] == first


class TestClassesThatWereAdded:
    """They go with the change that made them, unless something was made of them since."""

    @pytest.fixture
    def added(self, sessions, labelled):
        with sessions.begin() as session:
            change = begin_change(session, labelled, "Class bun added")
            with changing_classes(session, change):
                bun = add_class(session, labelled, "bun").id
        return change.id, bun

    def test_unused_they_are_gone(self, sessions, labelled, added):
        undo_change(sessions, labelled, added[0])
        with sessions() as session:
            assert session.get(ObjectClass, added[1]) is None

    def test_with_boxes_they_stay(self, sessions, labelled, added):
        with sessions.begin() as session:
            picture = session.get(Picture, 1)
            save_labels(
                session, picture, picture.revision, [NewBox(added[1], (0, 0, 9, 9))], PictureState.DONE
            )
        undo_change(sessions, labelled, added[0])
        with sessions() as session:
            assert session.get(ObjectClass, added[1]).retired_at is None

    def test_in_a_snapshot_they_are_retired(self, data, sessions, labelled, added):
        with sessions.begin() as session:
            freeze(session, data[0], labelled)
        undo_change(sessions, labelled, added[0])
        with sessions() as session:
            assert session.get(ObjectClass, added[1]).retired_at is not None


def test_a_part_given_with_labels_goes_back_with_them(sessions, labelled):
    with sessions.begin() as session:
        session.get(Picture, 1).part = None
    before = everything(sessions)
    change = begun(sessions, labelled)
    change_labels(sessions, change, [1, 2], lambda labels: Rewritten([], PictureState.EMPTY, Part.TEST))
    with sessions() as session:
        assert [session.get(Picture, number).part for number in (1, 2)] == [Part.TEST, Part.TEST]
    undo_change(sessions, labelled, change)
    with sessions() as session:
        assert [session.get(Picture, number).part for number in (1, 2)] == [None, Part.TRAINING]
    assert everything(sessions) == before


class TestInProgress:
    """What is in progress is not done: it is not counted, frozen, exported or learnt from."""

    @pytest.fixture
    def begun(self, sessions, labelled):
        with sessions.begin() as session:
            first, second, *_ = session.query(Picture).order_by(Picture.id)
            first.state = PictureState.IN_PROGRESS
            save_labels(session, second, second.revision, [], PictureState.EMPTY)
            return first.id

    def test_it_is_left_out_everywhere_and_said(self, data, sessions, labelled, begun):
        with sessions.begin() as session:
            shown = stages(session, labelled)
            assert (shown.pictures, shown.labelled, shown.in_progress) == (6, 5, 1)
            frozen = freeze(session, data[0], labelled)
            assert frozen.pictures == 5
            assert begun not in [each.id for each in labels_now(session, labelled).pictures]
            assert len(export_record(session, labelled).pictures) == 5
            assert sum(labelled_by_part(session, labelled).values()) == 5
            held = held_now(session, labelled, read_columns(session, labelled))
            assert what_is_lost(held, FORMATS["json-lines"])[:2] == [
                "that 1 picture was confirmed to have no objects",
                "1 picture in progress is left out",
            ]

    def test_many_are_marked_as_done_and_back(self, sessions, labelled, begun):
        ids = list(everything(sessions))
        made = mark_done(sessions, labelled, ids)
        assert (made.title, made.changed) == ("1 picture marked as done", 1)
        after = everything(sessions)
        assert after[begun]["state"] == "done" and len(after[begun]["boxes"]) == after[begun]["count"] > 0
        assert mark_done(sessions, labelled, ids).change_id is None
        undo_change(sessions, labelled, made.change_id)
        assert everything(sessions)[begun]["state"] == "in_progress"

    def test_an_import_does_not_write_over_it(self, sessions, labelled, begun):
        with sessions() as session:
            name = session.get(Picture, begun).name
            files = LabelFiles(
                {"a.jsonl": lambda: json.dumps({"picture": name, "boxes": []}).encode()}, "a.jsonl"
            )
            shown = preview(session, labelled, files)
        assert (shown.pictures, shown.labelled) == (0, [name])
