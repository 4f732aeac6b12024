"""Classes, attributes and changes to many pictures: what they touch, and the way back."""

import pytest

from avocet.core.errors import InputError
from avocet.store.tables import AttributeKind, Picture, PictureState
from avocet.work import classes
from avocet.work.attributes import add_attribute, list_attributes, remove_attribute
from avocet.work.changes import latest_changes, undo_change
from avocet.work.exchange import export_record
from avocet.work.labels import NewBox, labels_of, save_labels
from avocet.work.listing import Filter, list_pictures
from avocet.work.problems import NotFound
from avocet.work.snapshots import freeze, labels_now, read_snapshot


@pytest.fixture
def session(data, labelled):
    with data[1].begin() as opened:
        yield opened


def by_name(session, project_id):
    return {each.name: each for each in classes.list_classes(session, project_id)}


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
    undo_change(session, labelled, change.id)
    assert rows(session, labelled) == before
    with pytest.raises(InputError, match="taken back already"):
        undo_change(session, labelled, change.id)
    with pytest.raises(NotFound):
        undo_change(session, labelled, 999)


def test_order_and_pasted_lists(session, labelled):
    there = list(by_name(session, labelled))
    added, change = classes.add_classes(session, labelled, "bun\n roll\n\nbraid,\n")
    assert [each.name for each in added] == ["bun", "braid"] and change.title == "2 classes added"
    ids = [each.id for each in classes.list_classes(session, labelled)]
    order = classes.reorder_classes(session, labelled, ids[::-1])
    assert list(by_name(session, labelled)) == ["braid", "bun", *there[::-1]]
    undo_change(session, labelled, order.id)
    assert list(by_name(session, labelled)) == [*there, "bun", "braid"]
    with pytest.raises(InputError, match="every class"):
        classes.reorder_classes(session, labelled, ids[:-1])
    with pytest.raises(InputError, match="no name that is new"):
        classes.add_classes(session, labelled, "roll\n")


def test_merging_gives_the_boxes_over_and_back(session, labelled):
    named = by_name(session, labelled)
    before, counts = export_record(session, labelled), classes.boxes_by_class(session, labelled)
    change = classes.merge_class(session, labelled, named["ring"].id, named["roll"].id)
    after = classes.boxes_by_class(session, labelled)
    assert after[named["roll"].id] == counts[named["roll"].id] + counts[named["ring"].id]
    assert "ring" not in by_name(session, labelled)
    with pytest.raises(InputError, match="into itself"):
        classes.merge_class(session, labelled, named["roll"].id, named["roll"].id)
    with pytest.raises(InputError, match="retired"):
        classes.merge_class(session, labelled, named["roll"].id, named["ring"].id)
    undone = undo_change(session, labelled, change.id)
    assert undone.kept == 0 and undone.pictures > 0
    assert export_record(session, labelled) == before


def test_what_was_worked_on_since_is_not_undone(session, labelled):
    named = by_name(session, labelled)
    picture = list_pictures(session, labelled, Filter(class_id=named["ring"].id))[0]
    change = classes.merge_class(session, labelled, named["ring"].id, named["roll"].id)
    save_labels(session, picture, picture.revision, [], PictureState.EMPTY)
    undone = undo_change(session, labelled, change.id)
    assert undone.kept == 1 and picture.boxes == []
    assert "ring" in by_name(session, labelled)
    assert [each.title for each in latest_changes(session, labelled)] == ["ring merged into roll"]


def test_retired_classes_are_out_of_snapshots_and_come_back_by_name(data, session, labelled):
    named = by_name(session, labelled)
    ring, boxes = named["ring"], classes.boxes_by_class(session, labelled)
    whole = freeze(session, data[0], labelled)
    classes.retire_class(session, labelled, ring.id)
    frozen = labels_now(session, labelled)
    assert "ring" not in frozen.classes
    assert sum(len(p.boxes) for p in frozen.pictures) == whole.boxes - boxes[ring.id]
    assert classes.boxes_by_class(session, labelled) == boxes
    with pytest.raises(InputError, match="already"):
        classes.retire_class(session, labelled, ring.id)
    assert classes.add_class(session, labelled, "ring") is ring and ring.retired_at is None


def test_a_class_map_merges_renames_and_drops(data, session, labelled):
    named = by_name(session, labelled)
    counts = {name: classes.boxes_by_class(session, labelled)[each.id] for name, each in named.items()}
    snapshot = freeze(
        session,
        data[0],
        labelled,
        name="Two kinds",
        class_map={named["ring"].id: named["roll"].id, named["pretzel"].id: None},
        new_names={named["roll"].id: "round"},
    )
    frozen = read_snapshot(data[0], snapshot)
    assert "round" in frozen.classes and not {"roll", "ring", "pretzel"} & set(frozen.classes)
    label = frozen.classes.index("round")
    round_boxes = sum(box[0] == label for p in frozen.pictures for box in p.boxes)
    assert round_boxes == counts["roll"] + counts["ring"]
    assert snapshot.boxes == sum(counts.values()) - counts["pretzel"]
    with pytest.raises(InputError, match="'loaf'; merge them"):
        freeze(session, data[0], labelled, new_names={named["roll"].id: "loaf"})
    with pytest.raises(InputError, match="every class is left out"):
        freeze(session, data[0], labelled, class_map={each.id: None for each in named.values()})


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
    picture = list_pictures(session, labelled, Filter())[0]
    box = labels_of(picture)["boxes"][0]
    given = {"crust": "dark", "ignore": True, "occluded": False, "grams": 80.5, "gone": None}
    save_labels(
        session, picture, picture.revision, [NewBox(box["class_id"], tuple(box["corners"]), attributes=given)],
        PictureState.DONE,
    )  # fmt: skip
    assert picture.boxes[0].attributes == {"crust": "dark", "ignore": True, "grams": 80.5}
    with pytest.raises(InputError, match="1 boxes have 'crust'"):
        remove_attribute(session, labelled, crust.id)
    with pytest.raises(InputError, match="every project"):
        remove_attribute(session, labelled, list_attributes(session, labelled)[0].id)
    for bad, said in (
        ({"a": [1]}, "neither flag"),
        ({"a": float("nan")}, "no number"),
        ({"a" * 200: 1}, "too long"),
    ):
        with pytest.raises(InputError, match=said):
            boxes = [NewBox(box["class_id"], tuple(box["corners"]), attributes=bad)]
            save_labels(session, picture, picture.revision, boxes, PictureState.DONE)


def test_ignored_boxes_are_not_measured(data, session, labelled):
    from avocet.store.tables import Part
    from avocet.work.snapshots import labelled_pictures

    picture = session.get(Picture, list_pictures(session, labelled, Filter(part=Part.VALIDATION))[0].id)
    box = labels_of(picture)["boxes"][0]
    boxes = [
        NewBox(box["class_id"], tuple(box["corners"]), attributes={"ignore": True}, track=7),
        NewBox(box["class_id"], tuple(box["corners"])),
    ]
    save_labels(session, picture, picture.revision, boxes, PictureState.DONE)
    frozen = read_snapshot(data[0], freeze(session, data[0], labelled))
    kept = next(each for each in frozen.pictures if each.id == picture.id)
    assert kept.attributes == {0: {"ignore": True}} and kept.tracks == {0: 7}
    ready = labelled_pictures(data[0], labelled, frozen, Part.VALIDATION)
    assert next(each for each in ready if each.name == picture.name).ignored.tolist() == [True, False]
