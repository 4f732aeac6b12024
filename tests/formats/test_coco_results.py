"""Detections of other programs: what is read, and what is refused with which words."""

import json

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from avocet.core.detections import PictureDetections
from avocet.core.errors import InputError
from avocet.formats.coco import read_coco_with_ids
from avocet.formats.coco_results import read_results, write_results

IMAGES, CATEGORIES = {7: 0, 8: 1, 9: -1}, {3: 0, 4: 1}
GOOD = {"image_id": 7, "category_id": 3, "bbox": [1, 2, 3, 4], "score": 0.5}


def read(entries, **more):
    content = entries if isinstance(entries, bytes) else json.dumps(entries).encode()
    return read_results(content, "found.json", IMAGES, CATEGORIES, 2, **more)


def test_detections_are_sorted_by_picture_and_those_of_other_parts_left_out():
    found = read(
        [
            GOOD | {"image_id": 8, "score": 0.25},
            GOOD,
            GOOD | {"image_id": 9},
            GOOD | {"category_id": 4, "score": 1},
        ]
    )
    assert [each.scores.tolist() for each in found] == [[0.5, 1.0], [0.25]]
    assert found[0].boxes.tolist() == [[1, 2, 4, 6]] * 2 and found[0].classes.tolist() == [0, 1]


def test_a_class_of_another_number_is_mapped():
    assert read([GOOD | {"category_id": 90}], mapping={90: 4})[0].classes.tolist() == [1]
    assert len(read([GOOD, GOOD | {"category_id": 90}], mapping={90: None})[0].boxes) == 1


@pytest.mark.parametrize(
    "entries, message",
    [
        (b"", "found.json is empty"),
        (b"  \n", "found.json is empty"),
        ([], "found.json holds no detection"),
        ({"annotations": []}, "its top is not a list"),
        (b"[{]", "found.json is not JSON"),
        (b"[" * 100_000, "nested too deeply"),
        (b"[" + b"9" * 5000 + b"]", "is not a COCO results file: Exceeds the limit"),
        (b'["\xff"]', "not text in UTF-8"),
        ([3], "entry 1 is 3, not an object"),
        ([GOOD | {"image_id": 1}, GOOD | {"image_id": 1}], "2 detections with a image_id that the truth does not have: 1"),
        ([GOOD | {"bbox": [1, 2, 3, 10**400]}], "which is not four numbers"),
        ([GOOD | {"score": 10**400}], "does not lie between 0 and 1"),
        ([GOOD | {"image_id": [7]}], "image_id that the truth does not have"),
        ([GOOD | {"category_id": 90}], r"category_id that the truth does not have; say which class each means: 90 \(1\)"),
        ([GOOD | {"category_id": "roll"}], "category_id 'roll', which is no whole number"),
        (b'[{"image_id": 7, "category_id": 3, "bbox": [1, 2, 3, 4], "score": NaN}]', "entry 1 has the score nan, which is no number"),
        ([GOOD | {"score": None}], "entry 1 has the score None"),
        ([GOOD, GOOD | {"score": 1.5}], "entry 2 has the score 1.5, which does not lie between 0 and 1"),
        ([GOOD | {"score": -0.1}], "does not lie between 0 and 1"),
        ([GOOD | {"bbox": [1, 2, -3, 4]}], r"entry 1 has the box \[1, 2, -3, 4\], whose size is negative"),
        ([GOOD | {"bbox": [1, 2, 3]}], "which is not four numbers"),
        (b'[{"image_id": 7, "category_id": 3, "bbox": [1, 2, 3, 1e999], "score": 1}]', "which is not four numbers"),
    ],
)  # fmt: skip
def test_what_cannot_be_used_is_named(entries, message):
    with pytest.raises(InputError, match=message):
        read(entries)


number = st.floats(0, 1000).map(lambda value: round(value, 3))
box = st.tuples(number, number, number, number)


@given(
    st.lists(st.lists(st.tuples(box, st.floats(0, 1), st.integers(0, 1)), max_size=4), min_size=1, max_size=3)
)
def test_what_is_written_is_read_again(pictures):
    found = [
        PictureDetections(
            [(x, y, x + w, y + h) for (x, y, w, h), _, _ in each],
            [s for _, s, _ in each],
            [c for _, _, c in each],
        )
        for each in pictures
    ]
    rows = write_results(found, list(range(len(found))), [3, 4])
    if not rows:
        return
    again = read_results(
        json.dumps(rows).encode(), "again.json", {n: n for n in range(len(found))}, CATEGORIES, len(found)
    )
    for one, two in zip(found, again, strict=True):
        np.testing.assert_allclose(one.boxes, two.boxes, atol=1e-9)
        assert one.scores.tolist() == two.scores.tolist() and one.classes.tolist() == two.classes.tolist()


def test_ids_of_a_truth_are_told():
    document = {
        "images": [{"id": 5, "file_name": "b.jpg"}, {"id": 2, "file_name": "a.jpg"}],
        "categories": [{"id": 9, "name": "ring"}, {"id": 4, "name": "roll"}],
        "annotations": [],
    }
    _, ids = read_coco_with_ids(json.dumps(document).encode(), "truth.json")
    assert ids.images == {5: "b.jpg", 2: "a.jpg"} and ids.categories == {4: "roll", 9: "ring"}
