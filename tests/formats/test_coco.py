import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from avocet.core.errors import InputError
from avocet.formats.coco import parse_coco, read_coco, write_coco
from avocet.formats.files import LabelFiles
from avocet.formats.record import Record, RecordedBox, RecordedPicture


def document(**changes):
    base = {
        "images": [{"id": 1, "file_name": "belt.jpg", "width": 100, "height": 50}],
        "categories": [{"id": 3, "name": "roll"}, {"id": 1, "name": "loaf"}],
        "annotations": [{"id": 5, "image_id": 1, "category_id": 3, "bbox": [10, 10, 20, 20]}],
    }
    return base | changes


@st.composite
def records(draw):
    names = draw(
        st.lists(
            st.text(min_size=1, max_size=8).filter(lambda s: s.strip() == s),
            min_size=1,
            max_size=4,
            unique=True,
        )
    )
    pictures = []
    for number in range(draw(st.integers(0, 3))):
        boxes = []
        for _ in range(draw(st.integers(0, 4))):
            x, y = draw(st.integers(0, 80)), draw(st.integers(0, 40))
            corners = (
                float(x),
                float(y),
                float(x + draw(st.integers(1, 20))),
                float(y + draw(st.integers(1, 10))),
            )
            attributes = draw(st.dictionaries(st.sampled_from(["burnt", "cut off"]), st.booleans()))
            boxes.append(
                RecordedBox(draw(st.integers(0, len(names) - 1)), corners, draw(st.booleans()), attributes)
            )
        pictures.append(RecordedPicture(f"{number}.jpg", 100, 50, boxes))
    return Record(names, pictures)


@given(records())
def test_what_is_written_comes_back(record):
    assert parse_coco(json.loads(json.dumps(write_coco(record))), "truth.json") == record


def test_by_hand():
    record = parse_coco(document(), "truth.json")
    assert record.class_names == ["loaf", "roll"]
    assert record.pictures[0].boxes == [RecordedBox(1, (10.0, 10.0, 30.0, 30.0))]


@pytest.mark.parametrize(
    ("area", "read"),
    [(120, 120.0), (400, None), (400.0000001, None), (0, None), ("much", None), (None, None)],
)
def test_the_area_of_an_outline_is_read(area, read):
    """A box of 20×20: what is said of its area counts where it is another one, and a number."""
    held = document()
    held["annotations"][0]["area"] = area
    assert parse_coco(held, "truth.json").pictures[0].boxes[0].area == read


@pytest.mark.parametrize(
    ("annotation", "expected"),
    [
        ({"image_id": 9}, "annotation 5 is on image 9"),
        ({"category_id": 9}, "has category 9"),
        ({"bbox": [1, 2, 0, 5]}, "has no area"),
        ({"bbox": [1, 2, -4, 5]}, "has no area"),
        ({"bbox": [200, 10, 5, 5]}, "lies outside its picture of 100×50"),
        ({"bbox": [float("nan"), 1, 5, 5]}, "not made of finite numbers"),
        ({"bbox": [1, 2, 3]}, "not four numbers"),
        ({"bbox": ["a", 2, 3, 4]}, "not four numbers"),
        ({"image_id": [1]}, "is on image"),
        ({"bbox": None}, "not four numbers"),
    ],
)
def test_faulty_annotations_are_named_and_left_out(annotation, expected):
    entry = document()["annotations"][0] | annotation
    record = parse_coco(document(annotations=[entry]), "truth.json")
    assert not record.pictures[0].boxes
    assert len(record.faults) == 1 and expected in record.faults[0] and "truth.json" in record.faults[0]


def test_box_over_the_edge_is_cut():
    entry = document()["annotations"][0] | {"bbox": [90, 40, 20, 20]}
    assert parse_coco(document(annotations=[entry]), "t").pictures[0].boxes[0].corners == (90, 40, 100, 50)


@pytest.mark.parametrize(
    ("content", "expected"),
    [
        ([], "its top is not an object"),
        ({"images": []}, 'no list "annotations"'),
        (document(categories=[{"id": 1}]), "category 1 needs"),
        (document(categories=[{"id": 1, "name": "a"}, {"id": 1, "name": "b"}]), "used twice"),
        (
            document(categories=[{"id": 1, "name": "a"}, {"id": 2, "name": "a"}]),
            "two categories are called 'a'",
        ),
        (document(images=[{"id": 1}]), "has no file_name"),
        (document(images=[{"file_name": "a.jpg"}]), "needs an id"),
        (
            document(images=[{"id": 1, "file_name": "a"}, {"id": 1, "file_name": "b"}]),
            "image id 1 is used twice",
        ),
    ],
)
def test_files_built_otherwise_are_refused(content, expected):
    with pytest.raises(InputError, match=expected):
        parse_coco(content, "truth.json")


@pytest.mark.parametrize(
    ("content", "expected"),
    [
        (b"", "not JSON"),
        (b'{"images": [', "not JSON.*line 1"),
        (b"\xff\xfe\x00", "not JSON"),
        (b"[" * 100_000, "COCO"),
    ],
)
def test_files_that_are_not_json_are_refused(tmp_path, content, expected):
    path = tmp_path / "truth.json"
    path.write_bytes(content)
    with pytest.raises(InputError, match=expected):
        read_coco(LabelFiles.of_path(path))


def test_missing_file_is_named(tmp_path):
    with pytest.raises(InputError, match=r"nowhere\.json: there is no such file"):
        read_coco(LabelFiles.of_path(tmp_path / "nowhere.json"))
