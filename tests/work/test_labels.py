"""Classes, attributes and changes to many pictures: what they touch, and the way back."""

from dataclasses import replace

import pytest

from avocet.core.errors import InputError
from avocet.store.tables import AttributeKind, Box, PictureState
from avocet.work.exchange.written import export_record
from avocet.work.labels import classes
from avocet.work.labels.attributes import add_attribute, list_attributes
from avocet.work.labels.boxes import NewBox, boxes_of, labels_of, save_labels
from avocet.work.labels.changes import latest_changes
from avocet.work.labels.class_merge import merge_class
from avocet.work.labels.classes import add_class
from avocet.work.pictures.listing import Filter
from avocet.work.problems import Conflict, NotFound
from avocet.work.project.projects import create_project
from tests.listed import pictures_of
from tests.work.conftest import apart, by_name, undo


def rows(session, project_id):
    found = classes.list_classes(session, project_id, retired=True)
    return [(each.id, each.name, each.colour, each.position, each.retired_at) for each in found]


def test_names_and_colours(session, labelled):
    ring = by_name(session, labelled)["ring"]
    before = rows(session, labelled)
    change = classes.change_class(session, labelled, ring.id, " bagel ", "#ff00aa")
    assert (ring.name, ring.colour, change.title) == ("bagel", "#FF00AA", "ring renamed to bagel")
    with pytest.raises(InputError, match="colour"):
        classes.change_class(session, labelled, ring.id, None, "red; }")
    for name, said in (("roll", "'roll' already"), (" ", "1 to 100"), ("a\nb", "cannot be shown")):
        with pytest.raises(InputError, match=said):
            classes.change_class(session, labelled, ring.id, name, None)
    undo(session, labelled, change)
    assert rows(session, labelled) == before
    with pytest.raises(InputError, match="is undone already"):
        undo(session, labelled, change)
    with pytest.raises(NotFound):
        undo(session, labelled, 999)


def test_order_and_pasted_lists(session, labelled):
    there = list(by_name(session, labelled))
    added, change = classes.add_classes(session, labelled, "bun\n roll\n\nbraid,\n")
    assert [each.name for each in added] == ["bun", "braid"] and change.title == "2 classes added"
    ids = [each.id for each in classes.list_classes(session, labelled)]
    order = classes.reorder_classes(session, labelled, ids[::-1])
    assert list(by_name(session, labelled)) == ["braid", "bun", *there[::-1]]
    undo(session, labelled, order)
    assert list(by_name(session, labelled)) == [*there, "bun", "braid"]
    with pytest.raises(InputError, match="every class"):
        classes.reorder_classes(session, labelled, ids[:-1])
    with pytest.raises(InputError, match="no name that is new"):
        classes.add_classes(session, labelled, "roll\n")


def test_merging_gives_the_boxes_over_and_back(session, labelled):
    named = by_name(session, labelled)
    before, counts = export_record(session, labelled), classes.boxes_by_class(session, labelled)
    change = apart(session, merge_class, labelled, named["ring"].id, named["roll"].id)
    after = classes.boxes_by_class(session, labelled)
    assert after[named["roll"].id] == counts[named["roll"].id] + counts[named["ring"].id]
    assert "ring" not in by_name(session, labelled)
    with pytest.raises(InputError, match="into itself"):
        apart(session, merge_class, labelled, named["roll"].id, named["roll"].id)
    with pytest.raises(InputError, match="retired"):
        apart(session, merge_class, labelled, named["roll"].id, named["ring"].id)
    undone = undo(session, labelled, change)
    assert undone.kept == 0 and undone.pictures > 0
    assert export_record(session, labelled) == before


def test_a_page_that_does_not_know_of_a_merge_draws_the_class_that_it_became(session, labelled):
    named = by_name(session, labelled)
    ring, roll, loaf = (named[name].id for name in ("ring", "roll", "loaf"))
    first = apart(session, merge_class, labelled, ring, roll)
    apart(session, merge_class, labelled, roll, loaf)
    picture = pictures_of(session, labelled)[0]
    box = NewBox(ring, (10, 10, 50, 40))
    save_labels(session, picture, picture.revision, [box], PictureState.DONE)
    assert [each.class_id for each in picture.boxes] == [loaf]
    undo(session, labelled, first)
    save_labels(session, picture, picture.revision, [box], PictureState.DONE)
    assert [each.class_id for each in picture.boxes] == [ring]


def test_boxes_of_a_retired_class_stay_but_none_is_drawn(session, labelled):
    ring = by_name(session, labelled)["ring"].id
    picture = pictures_of(session, labelled, Filter(class_id=ring))[0]
    there = boxes_of(picture)
    classes.retire_class(session, labelled, ring)
    moved = [replace(box, crowd=True) for box in there]
    save_labels(session, picture, picture.revision, moved, PictureState.DONE)
    assert boxes_of(picture) == moved
    one_more = [*moved, NewBox(ring, (10, 10, 50, 40))]
    said = rf"box {len(one_more)} of .* has class 'ring', which was retired; .* restore 'ring' under Classes"
    with pytest.raises(InputError, match=said):
        save_labels(session, picture, picture.revision, one_more, PictureState.DONE)
    assert boxes_of(picture) == moved


def test_what_was_worked_on_since_is_not_undone(session, labelled):
    named = by_name(session, labelled)
    picture = pictures_of(session, labelled, Filter(class_id=named["ring"].id))[0]
    change = apart(session, merge_class, labelled, named["ring"].id, named["roll"].id)
    save_labels(session, picture, picture.revision, [], PictureState.EMPTY)
    undone = undo(session, labelled, change)
    assert undone.kept == 1 and picture.boxes == []
    assert "ring" in by_name(session, labelled)
    assert [each.title for each in latest_changes(session, labelled)] == ["ring merged into roll"]


def test_attributes(session, labelled):
    assert [each.name for each in list_attributes(session, labelled)] == ["occluded", "cut off", "ignore"]
    crust = add_attribute(session, labelled, "crust", AttributeKind.CHOICE, None, ["pale", " dark ", "pale"])
    assert crust.choices == ["pale", "dark"]
    for name, kind, choices, said in (
        ("crust", AttributeKind.FLAG, [], "already"),
        ("", AttributeKind.FLAG, [], "1 to 100"),
        ('a"b', AttributeKind.FLAG, [], "quotation"),
        ("salt", AttributeKind.CHOICE, ["one"], "at least two"),
    ):
        with pytest.raises(InputError, match=said):
            add_attribute(session, labelled, name, kind, None, choices)
    picture = pictures_of(session, labelled)[0]
    box = labels_of(picture)["boxes"][0]
    given = {"crust": "dark", "ignore": True, "occluded": False, "grams": 80.5, "gone": None}
    save_labels(
        session, picture, picture.revision, [NewBox(box["class_id"], tuple(box["corners"]), attributes=given)],
        PictureState.DONE,
    )  # fmt: skip
    assert picture.boxes[0].attributes == {"crust": "dark", "ignore": True, "grams": 80.5}
    for bad, said in (
        ({"a": [1]}, "neither flag"),
        ({"a": float("nan")}, "no number"),
        ({"a" * 200: 1}, "too long"),
    ):
        with pytest.raises(InputError, match=said):
            boxes = [NewBox(box["class_id"], tuple(box["corners"]), attributes=bad)]
            save_labels(session, picture, picture.revision, boxes, PictureState.DONE)


def test_labels_are_saved_and_stale_ones_are_not(picture):
    session, still, roll = picture
    save_labels(session, still, 0, [NewBox(roll, (10, 10, 50, 40))], PictureState.IN_PROGRESS)
    assert still.revision == 1 and still.state == PictureState.IN_PROGRESS
    with pytest.raises(Conflict) as caught:
        save_labels(session, still, 0, [], PictureState.DONE)
    assert caught.value.current["revision"] == 1
    assert caught.value.current["boxes"][0]["corners"] == [10, 10, 50, 40]
    assert labels_of(still)["boxes"][0]["class_id"] == roll


@pytest.mark.parametrize(
    ("asked", "boxes", "expected"),
    [
        ("done", 1, "done"),
        ("done", 0, "empty"),
        ("empty", 1, "in_progress"),
        ("unlabelled", 1, "in_progress"),
        ("in_progress", 0, "unlabelled"),
        ("empty", 0, "empty"),
    ],
)
def test_state_fits_the_boxes(picture, asked, boxes, expected):
    session, still, roll = picture
    save_labels(session, still, 0, [NewBox(roll, (1, 1, 9, 9))] * boxes, PictureState(asked))
    assert still.state == expected


@pytest.mark.parametrize(
    ("corners", "expected"),
    [
        ((5, 5, 5, 9), "has no area"),
        ((2000, 5, 2010, 9), "lies outside"),
        ((float("nan"), 1, 2, 3), "finite"),
    ],
)
def test_unusable_boxes_are_refused_and_nothing_changes(picture, corners, expected):
    session, still, roll = picture
    with pytest.raises(InputError, match=rf"box 1 of a\.jpg .*{expected}"):
        save_labels(session, still, 0, [NewBox(roll, corners)], PictureState.DONE)
    assert still.revision == 0 and not still.boxes


def test_class_of_another_project_is_refused(picture):
    session, still, _ = picture
    other = create_project(session, "Other")
    foreign = add_class(session, other.id, "nut")
    with pytest.raises(InputError, match=f"class {foreign.id}"):
        save_labels(session, still, 0, [NewBox(foreign.id, (1, 1, 5, 5))], PictureState.DONE)


def test_a_box_that_is_as_it_was_keeps_its_row(session, labelled):
    picture = next(each for each in pictures_of(session, labelled) if len(each.boxes) > 3)
    first, second, *others = boxes_of(picture)
    ids = {row.position: row.id for row in picture.boxes}
    twice = replace(first, attributes={"ignore": True})
    moved = replace(second, corners=tuple(each + 0.5 for each in second.corners))
    # One box lies there twice, one was moved, and the last are now before the others.
    saved = [*others, first, first, moved]
    save_labels(session, picture, picture.revision, saved, PictureState.DONE)
    session.expire(picture)
    assert boxes_of(picture) == saved
    now = [row.id for row in picture.boxes]
    assert now[:-2] == [*(ids[place] for place in range(3, len(ids) + 1)), ids[1]]
    assert not set(now[-2:]) & set(ids.values())
    # A flag is not the number 1, by which a box is another one.
    save_labels(session, picture, picture.revision, [twice], PictureState.DONE)
    [flagged] = [row.id for row in picture.boxes]
    counted = replace(twice, attributes={"ignore": 1})
    session.get(Box, flagged).attributes = counted.attributes
    session.flush()
    save_labels(session, picture, picture.revision, [twice], PictureState.DONE)
    assert picture.boxes[0].attributes["ignore"] is True and picture.boxes[0].id != flagged
