"""What a format holds comes back the same, whatever it is."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from avocet.formats.files import LabelFiles
from avocet.formats.kinds import FORMATS, held_by, recognise, what_is_lost
from avocet.formats.record import FoundPicture, Record, RecordedBox, RecordedPicture
from avocet.formats.table import guess_columns, look_at_table, read_table, write_table

WORD = st.text(
    st.characters(codec="utf-8", exclude_categories=("C", "Z"), exclude_characters="/\\"),
    min_size=1,
    max_size=12,
).filter(lambda word: word.strip(".") == word)
FLAGS = st.sets(st.sampled_from(["occluded", "cut off", "ignore"])).map(
    lambda names: dict.fromkeys(names, True)
)
VALUES = st.dictionaries(WORD, st.booleans() | st.integers(-9, 9) | WORD, max_size=2)


def side(length):
    """Two coordinates with a gap, to a millionth of a pixel as boxes are kept."""
    millionths = st.integers(0, length * 10**6 - 1).flatmap(
        lambda first: st.integers(first + 1, length * 10**6).map(lambda second: (first / 1e6, second / 1e6))
    )
    whole = st.integers(0, length - 1).flatmap(
        lambda first: st.integers(first + 1, length).map(lambda second: (float(first), float(second)))
    )
    return millionths | whole


@st.composite
def records(draw):
    """A record with everything that a label can hold."""
    classes = draw(st.lists(WORD, min_size=1, max_size=4, unique=True))
    names = draw(st.lists(WORD, max_size=4, unique=True))
    pictures = []
    for name in names:
        width, height = draw(st.integers(1, 4000)), draw(st.integers(1, 4000))
        boxes = []
        for _ in range(draw(st.integers(0, 4))):
            (x1, x2), (y1, y2) = draw(side(width)), draw(side(height))
            attributes = draw(FLAGS) | draw(VALUES)
            track = draw(st.none() | st.integers(0, 10**6))
            label = draw(st.integers(0, len(classes) - 1))
            boxes.append(RecordedBox(label, (x1, y1, x2, y2), draw(st.booleans()), attributes, track))
        pictures.append(RecordedPicture(f"{name}.jpg", width, height, boxes))
    return Record(classes, pictures)


def held(record, format):
    """A record as one comparable value, with only what the format says that it holds."""

    def attributes(box):
        if format.attributes is None:
            return box.attributes
        return {k: v for k, v in box.attributes.items() if k in format.attributes and v is True}

    return {
        picture.name: (
            (picture.width, picture.height),
            [
                (
                    record.class_names[box.label],
                    box.corners,
                    box.crowd and format.crowd,
                    attributes(box),
                    box.track if format.tracks else None,
                )
                for box in picture.boxes
            ],
        )
        for picture in record.pictures
    }


def through(record, format, write=None):
    """Write a record and read it again."""
    contents = dict((write or format.write)(record))
    files = LabelFiles({name: lambda name=name: contents[name] for name in contents}, "the export")
    sizes = {each.name.removesuffix(".jpg"): each for each in record.pictures}

    def find(stem):
        each = sizes.get(stem.removesuffix(".jpg"))
        return each and FoundPicture(each.name, each.width, each.height)

    assert recognise(files) is format
    back = format.read(files, find)
    assert back.faults == []
    return back


@pytest.mark.parametrize("key", FORMATS)
@given(data=st.data())
def test_what_a_format_holds_comes_back(key, data):
    record, format = data.draw(records()), FORMATS[key]
    if key == "voc" and not record.pictures:
        return
    assert held(through(record, format), format) == held(record, format)


@pytest.mark.parametrize("kind", ["corner and size", "bracketed"])
@given(data=st.data())
def test_every_kind_of_table_comes_back(kind, data):
    record, format = data.draw(records()), FORMATS["csv"]
    back = through(record, format, lambda given: write_table(given, kind))
    assert held(back, format) == held(record, format)


@pytest.mark.parametrize("key", FORMATS)
@given(data=st.data())
def test_what_is_not_said_to_be_lost_is_kept(key, data):
    record, format = data.draw(records()), FORMATS[key]
    said = what_is_lost(held_by(record), format)
    if said or (key == "voc" and not record.pictures):
        return
    everything = FORMATS["json-lines"]
    assert held(through(record, format), everything) == held(record, everything)
    assert format.unused_classes is False or through(record, format).class_names == record.class_names


def test_a_table_under_other_names():
    text = b"Foto;Sorte;links;oben;breit;hoch\nbelt.jpg;roll;10;20;30,5;40\nbelt.jpg;roll;10;20;30.5;40\n"
    files = LabelFiles({"t.csv": lambda: text}, "t.csv")
    look = look_at_table(files)
    assert look.guess is None and look.header[0] == "Foto" and look.rows[0][1] == "roll"
    from avocet.formats.table import Columns

    columns = Columns("Foto", "Sorte", "corner and size", ("links", "oben", "breit", "hoch"))
    record = read_table(files, columns=columns)
    assert record.pictures[0].boxes[0].corners == (10, 20, 40.5, 60)
    assert record.faults == ["t.csv, line 2: '10, 20, 30,5, 40' is not four numbers"]


def test_a_bracketed_column_with_ids_for_names():
    text = b'image_id,width,height,bbox,source\nb5,1024,1024,"[834.0, 222.0, 56.0, 36.0]",belt 1\n'
    files = LabelFiles({"train.csv": lambda: text}, "train.csv")
    record = read_table(files)
    assert guess_columns(["image_id", "width", "height", "bbox", "source"]).kind == "bracketed"
    assert record.class_names == ["belt 1"] and record.pictures[0].boxes[0].corners == (834, 222, 890, 258)
