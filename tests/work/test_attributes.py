"""Attributes that boxes have: renamed, given other choices, removed, and the way back."""

from dataclasses import replace

import numpy as np
import pytest

from avocet.core.errors import InputError
from avocet.formats.files import LabelFiles
from avocet.store.database import reading
from avocet.store.tables import Attribute, AttributeKind, Box, Picture, PictureState
from avocet.work.exchange.project_labels import preview
from avocet.work.exchange.taking import take_over
from avocet.work.labels.attribute_changes import add_as_change, change_attribute, remove_attribute
from avocet.work.labels.attributes import list_attributes, values_outside
from avocet.work.labels.boxes import boxes_of, labels_of, save_labels
from avocet.work.labels.undo import undo_change
from avocet.work.problems import NotFound
from avocet.work.progress import SILENT


@pytest.fixture
def crust(data, labelled):
    """A choice that every box of the first two pictures has, pale and dark in turn; its number."""
    with data[1].begin() as session:
        add_as_change(session, labelled, "crust", AttributeKind.CHOICE, None, ["pale", "dark", "black"])
        for number in (1, 2):
            say(session, number, lambda place: {"crust": ("pale", "dark")[place % 2], "ignore": True})
        return list_attributes(session, labelled)[-1].id


def say(session, number, of):
    """Give the boxes of a picture their attributes by their places."""
    picture = session.get(Picture, number)
    boxes = [replace(box, attributes=of(place)) for place, box in enumerate(boxes_of(picture))]
    save_labels(session, picture, picture.revision, boxes, PictureState.DONE)


def everything(data, project_id):
    """Attributes, and what each box says, with its place."""
    with reading(data[1])() as session:
        rows = [
            (each.id, each.name, each.kind, each.class_id, each.choices, each.position)
            for each in list_attributes(session, project_id)
        ]
        boxes = {
            (box.picture_id, box.position): (box.class_id, box.corners, box.attributes)
            for box in session.query(Box)
        }
    return rows, boxes


def values(data, name):
    return [attributes.get(name) for _, (*_, attributes) in sorted(everything(data, 1)[1].items())]


def test_a_name_goes_to_the_boxes_and_back(data, labelled, crust):
    before = everything(data, labelled)
    had = [each for each in values(data, "crust") if each]
    change = change_attribute(data[1], labelled, crust, " colour ")
    assert (change.title, change.changed) == ("crust renamed to colour", len(had))
    assert [each for each in values(data, "colour") if each] == had and not any(values(data, "crust"))
    assert all(values(data, "ignore")[: len(had)])
    undo_change(data[1], labelled, change.change_id)
    assert everything(data, labelled) == before


@pytest.mark.slow
def test_choices_are_renamed_added_and_dropped(data, labelled, crust):
    before, was = everything(data, labelled), values(data, "crust")
    change = change_attribute(
        data[1], labelled, crust, None, [("burnt", None), ("light", "pale"), ("black", "black")]
    )
    assert change.title == "Choices of crust changed"
    assert values(data, "crust") == [{"pale": "light", "dark": None, None: None}[each] for each in was]
    assert everything(data, labelled)[0][-1][4] == ["burnt", "light", "black"]
    undo_change(data[1], labelled, change.change_id)
    assert everything(data, labelled) == before
    # Two that change names.
    swapped = change_attribute(data[1], labelled, crust, None, [("dark", "pale"), ("pale", "dark")])
    assert values(data, "crust") == [{"pale": "dark", "dark": "pale", None: None}[each] for each in was]
    undo_change(data[1], labelled, swapped.change_id)
    assert everything(data, labelled) == before


def test_removing_takes_it_from_the_boxes_and_undo_gives_it_back(data, labelled, crust):
    before = everything(data, labelled)
    change = remove_attribute(data[1], labelled, crust)
    assert change.changed == sum(map(bool, map(lambda each: each[2].get("crust"), before[1].values())))
    assert not any(values(data, "crust")) and len(everything(data, labelled)[0]) == 3
    with pytest.raises(NotFound):
        remove_attribute(data[1], labelled, crust)
    undo_change(data[1], labelled, change.change_id)
    assert everything(data, labelled) == before


def test_what_came_later_stays_when_a_change_is_undone(data, labelled, crust):
    renamed = change_attribute(data[1], labelled, crust, "colour")
    with data[1].begin() as session:
        say(session, 2, lambda place: {"colour": "black"})
        add_as_change(session, labelled, "crust", AttributeKind.FLAG)
    undone = undo_change(data[1], labelled, renamed.change_id)
    assert (undone.pictures, undone.kept) == (1, 1)
    with data[1]() as session:
        names = [each.name for each in list_attributes(session, labelled)]
        # The name is somebody else's by now.
        assert names[-2:] == ["crust (formerly)", "crust"]
        assert {box.attributes.get("colour") for box in session.get(Picture, 2).boxes} == {"black"}


def test_an_added_one_goes_with_its_change_unless_boxes_have_it(data, labelled):
    with data[1].begin() as session:
        first = add_as_change(session, labelled, "glaze", AttributeKind.FLAG).id
        second = add_as_change(session, labelled, "grams", AttributeKind.NUMBER).id
        say(session, 1, lambda place: {"grams": 80 + place})
    for change in (first, second):
        undo_change(data[1], labelled, change)
    with data[1]() as session:
        assert [each.name for each in list_attributes(session, labelled)][3:] == ["grams"]


@pytest.mark.parametrize(
    ("name", "choices", "said"),
    [
        ("ignore", None, "called 'ignore' already"),
        ("", None, "1 to 100"),
        ('a"b', None, "quotation"),
        (None, [("pale", "pale")], "at least two"),
        (None, [("pale", "pale"), ("pale", "dark")], "at least two"),
    ],
)
def test_what_cannot_be_used_changes_nothing(data, labelled, crust, name, choices, said):
    before = everything(data, labelled)
    with pytest.raises(InputError, match=said):
        change_attribute(data[1], labelled, crust, name, choices)
    assert everything(data, labelled) == before
    ready = before[0][0][0]
    with pytest.raises(InputError, match="every project"):
        change_attribute(data[1], labelled, ready, "covered")
    with pytest.raises(InputError, match="has no choices"):
        with data[1].begin() as session:
            flag = add_as_change(session, labelled, "glaze", AttributeKind.FLAG)
            number = flag.attributes_after[-1]["id"]
        change_attribute(data[1], labelled, number, None, [("a", None), ("b", None)])
    assert change_attribute(data[1], labelled, crust, "crust").change_id is None


@pytest.mark.slow
def test_renaming_and_undoing_in_any_order_ends_where_it_began(data, labelled, crust):
    random = np.random.default_rng(3)
    before = everything(data, labelled)
    for _ in range(6):
        done = []
        for _ in range(random.integers(1, 5)):
            held = everything(data, labelled)[0][-1][4]
            names = [f"kind {each}" for each in random.integers(0, 9, len(held))]
            given = list(zip(names, held, strict=True))
            name = f"name {random.integers(0, 5)}"
            try:
                made = change_attribute(
                    data[1], labelled, crust, name, given if random.random() < 0.5 else None
                )
            except InputError:
                continue
            done.append(made.change_id)
        for change_id in reversed(done):
            if change_id is not None:
                undo_change(data[1], labelled, change_id)
        assert everything(data, labelled) == before


@pytest.mark.parametrize(
    ("given", "said"),
    [
        ({"crust": "grey"}, "box 1 of still-2.jpg has 'grey' as 'crust', which holds pale or dark or black"),
        ({"crust": 3}, "has '3' as 'crust'"),
        ({"ignore": "yes"}, "has 'yes' as 'ignore', which is set or not"),
        ({"ignore": 1}, "has '1' as 'ignore'"),
        ({"grams": "many"}, "has 'many' as 'grams', which holds a number"),
        ({"grams": True}, "has 'True' as 'grams'"),
    ],
)
def test_values_that_are_none_of_the_choices_are_refused(data, labelled, crust, given, said):
    with data[1].begin() as session:
        add_as_change(session, labelled, "grams", AttributeKind.NUMBER)
    with pytest.raises(InputError, match=said), data[1].begin() as session:
        say(session, 3, lambda place: given)
    with data[1].begin() as session:
        say(session, 3, lambda place: {"crust": "black", "grams": 80.5, "ignore": True, "of a file": "x"})


def test_what_a_picture_has_already_may_stay(data, labelled, crust):
    """Of a time when it could be chosen: whoever moves a box is not kept from it."""
    with data[1].begin() as session:
        session.get(Attribute, crust).choices = ["black", "grey"]
        say(session, 1, lambda place: {"crust": "pale"})
    with pytest.raises(InputError, match="still-2"), data[1].begin() as session:
        say(session, 3, lambda place: {"crust": "pale"})


def test_a_file_brings_no_other_values(data, labelled, crust):
    with data[1].begin() as session:
        session.get(Picture, 3).state = PictureState.UNLABELLED
        wrong = {"crust": "grey", "ignore": True}
        assert [name for name, _ in values_outside(list_attributes(session, labelled), wrong)] == ["crust"]
    text = (
        b'{"picture": "still-2.jpg", "boxes": [{"class": "roll", "corners": [1, 2, 30, 40], '
        b'"attributes": {"crust": "grey", "ignore": true}}]}'
    )
    files = LabelFiles({"labels.jsonl": lambda: text}, "labels.jsonl")
    with data[1]() as session:
        found = preview(session, labelled, files)
    assert found.problems == [
        "labels.jsonl: a box on still-2.jpg is taken without 'grey' as 'crust', "
        "which holds pale or dark or black"
    ]
    take_over(data[1], labelled, files, SILENT)
    with data[1]() as session:
        assert labels_of(session.get(Picture, 3))["boxes"][0]["attributes"] == {"ignore": True}
