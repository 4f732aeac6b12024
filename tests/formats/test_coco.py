import json

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from avocet.core.errors import InputError
from avocet.formats.coco import box_of_outline, parse_coco, read_coco, write_coco
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


def coco(*annotations, width=100, height=80):
    return {
        "images": [{"id": 1, "file_name": "belt.jpg", "width": width, "height": height}],
        "categories": [{"id": 7, "name": "roll"}],
        "annotations": [
            {"id": number, "image_id": 1, "category_id": 7, **each}
            for number, each in enumerate(annotations, start=1)
        ],
    }


def test_corners_in_place_of_sizes_are_asked_about():
    """Ten boxes of which all but one reach over the border as sizes; as corners none does."""
    boxes = [{"bbox": [60.0 - n, 50, 90 - n, 75]} for n in range(9)] + [{"bbox": [2, 3, 20, 30]}]
    record = parse_coco(coco(*boxes), "truth.json")
    assert record.asks.startswith("truth.json: 9 of 10 boxes reach over the border of the picture")
    assert len(record.pictures[0].cut) == 9
    told = parse_coco(coco(*boxes), "truth.json", corners=True)
    assert (
        told.asks == "" and told.pictures[0].boxes[0].corners == (60, 50, 90, 75) and not told.pictures[0].cut
    )
    assert parse_coco(coco(*boxes), "truth.json", corners=False).asks == ""
    # One that is too large, as people draw them, is no reason to ask; nor is what would be no corners either.
    assert parse_coco(coco(*[{"bbox": [5, 5, 20, 20]}] * 9, {"bbox": [90, 5, 20, 20]}), "t.json").asks == ""
    assert parse_coco(coco(*[{"bbox": [90, 70, 30, 30]}] * 9), "t.json").asks == ""


def test_what_is_taken_otherwise_than_it_stands_is_said():
    record = parse_coco(
        coco(
            {"bbox": [10, 10, 20, 20], "ignore": 1, "segmentation": [[10, 10, 30, 10, 30, 30]]},
            {"bbox": [10, 10, 20, 20], "ignore": 0, "score": 0.75},
            {"segmentation": [[40, 10, 70, 12, 60, 50], [38, 20, 50, 60, 45, 30]]},
            {"bbox": [-6, 4, 20, 20]},
            {"segmentation": {"size": [80, 100], "counts": [80 * 20 + 5, 10, 70, 10, 8000 - 1695]}},
        ),
        "truth.json",
    )
    boxes = record.pictures[0].boxes
    assert not record.faults and not record.asks
    assert [box.attributes for box in boxes] == [{"ignore": True}, {"score": 0.75}, {}, {}, {}]
    assert [box.corners for box in boxes[2:]] == [(38, 10, 70, 60), (0, 4, 14, 24), (20, 5, 22, 15)]
    assert record.pictures[0].cut == [6]
    assert record.notes == [
        "truth.json: 2 boxes are made from their outline: the file has none of their own",
        "truth.json: 1 box is marked to be ignored, as the file says",
        "truth.json: outlines of 1 box are not taken along: labels here are boxes",
    ]


@given(st.integers(1, 9), st.integers(1, 9), st.integers(0, 2**32))
def test_the_box_of_a_mask_is_where_it_is_set(height, width, seed):
    mask = np.random.default_rng(seed).random((height, width)) < 0.2
    flat = mask.T.reshape(-1)
    edges = np.flatnonzero(np.diff(np.concatenate([[0], flat, [flat[-1]]]).astype(int)))
    counts = np.diff(np.concatenate([[0], edges, [len(flat)]])).tolist()
    found = box_of_outline({"size": [height, width], "counts": counts})
    if not mask.any():
        assert found is None
    else:
        rows, columns = np.nonzero(mask)
        assert found == (columns.min(), rows.min(), columns.max() + 1, rows.max() + 1)


@pytest.mark.parametrize(
    "outline",
    [None, [], [[1, 2]], "x", [[1, 2, 3, "4", 5, 6]], {"size": [3], "counts": [1]}, {"size": [9, 9], "counts": "abc"},
     {"size": [2, 2], "counts": [0, 900]}, {"size": [2, 2], "counts": [-1, 2]}, {"size": [1e9, 2], "counts": [0, 1]}],
)  # fmt: skip
def test_outlines_that_are_none(outline):
    assert box_of_outline(outline) is None


def test_only_boxes_that_are_taken_count_as_cut():
    """One reaches over by 30 pixels, one by half of one, and one lies outside altogether."""
    boxes = [[80, 10, 50, 20], [10, 10, 90.5, 20], [150, 10, 20, 20]]
    annotations = [
        {"id": number, "image_id": 1, "category_id": 1, "bbox": box}
        for number, box in enumerate(boxes, start=1)
    ]
    document = {
        "images": [{"id": 1, "file_name": "a.jpg", "width": 100, "height": 100}],
        "annotations": annotations,
        "categories": [{"id": 1, "name": "roll"}],
    }
    record = parse_coco(document, "truth.json", corners=False)
    assert (record.pictures[0].cut, len(record.pictures[0].boxes), len(record.faults)) == ([30], 2, 1)
