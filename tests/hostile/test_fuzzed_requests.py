"""Whatever is sent, the server answers with a result or a problem document, and loses nothing."""

import io
import json

import numpy as np
import pytest
from hypothesis import HealthCheck, given
from hypothesis import strategies as st

from avocet.core.errors import InputError
from avocet.detector.model.bundle import read_bundle
from avocet.formats.coco import parse_coco
from avocet.media.clips import read_frames
from avocet.media.pictures import encode_jpeg, read_picture
from tests.conftest import examples

BASE = "/api/v1"
quietly = examples(60, suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow])

anything = st.recursive(
    st.none() | st.booleans() | st.integers(-(2**70), 2**70) | st.floats() | st.text(max_size=6),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=6), inner, max_size=4),
    max_leaves=8,
)
number = st.one_of(st.integers(-50, 2000), st.floats(), st.none(), st.text(max_size=3))
box = st.fixed_dictionaries({}, optional={
    "class_id": number, "corners": st.lists(number, max_size=5), "crowd": anything, "attributes": anything, "more": anything,
})  # fmt: skip
labels = st.fixed_dictionaries({}, optional={
    "revision": st.one_of(st.just(1), number), "state": st.sampled_from(["done", "empty", "odd", 3]), "boxes": st.lists(box, max_size=3),
})  # fmt: skip


@pytest.fixture
def client(data, app_of):
    return app_of(*data).test_client()


@quietly
@given(body=labels | anything)
def test_any_labels(client, labelled, body):
    before = client.get(f"{BASE}/pictures/1").json
    reply = client.put(f"{BASE}/pictures/1/labels", data=json.dumps(body), content_type="application/json")
    assert reply.status_code in (200, 409, 422), reply.data
    if reply.status_code == 200:
        for each in reply.json["labels"]["boxes"]:
            x1, y1, x2, y2 = each["corners"]
            assert 0 <= x1 < x2 <= 960 and 0 <= y1 < y2 <= 540
    else:
        assert client.get(f"{BASE}/pictures/1").json == before


@quietly
@given(
    body=anything,
    url=st.sampled_from(
        [
            "/projects",
            "/projects/1/classes",
            "/projects/1/runs",
            "/projects/1/evaluations",
            "/projects/1/ensembles",
            "/projects/1/fusions",
            "/runs/1/anatomies",
            "/fusions/1",
            "/detections",
            "/clips/1/frames",
            "/clips/1/plans",
            "/clips/1/tracks",
            "/clips/1/carried",
            "/clips/1/proposed",
            "/clips/1/exports",
        ]
    ),
)
def test_any_body(client, labelled, body, url):
    reply = client.post(BASE + url, data=json.dumps(body), content_type="application/json")
    assert reply.status_code in (201, 202, 404, 422), reply.data
    assert reply.is_json or reply.mimetype == "application/problem+json"


@quietly
@given(
    query=st.dictionaries(
        st.sampled_from(["after", "limit", "state", "part", "class_id", "name", "binned"]),
        st.text(max_size=5),
    )
)
def test_any_query(client, labelled, query):
    reply = client.get(f"{BASE}/projects/1/pictures", query_string=query)
    assert reply.status_code in (200, 422), reply.data


@quietly
@given(
    name=st.text(min_size=1, max_size=30),
    content=st.binary(max_size=200),
    suffix=st.sampled_from([".jpg", ".png", ".mp4", ".zip", ""]),
)
def test_any_file(client, data, labelled, name, content, suffix):
    sent = {"files": [(io.BytesIO(content), name + suffix)]}
    reply = client.post(f"{BASE}/projects/1/media", data=sent, content_type="multipart/form-data")
    assert reply.status_code in (200, 422), reply.data
    if reply.status_code == 200:
        assert [each["outcome"] for each in reply.json["files"]] == ["refused"]
    incoming = data[0].incoming
    assert not incoming.exists() or not list(incoming.iterdir())
    assert client.get(f"{BASE}/projects/1").json["stages"]["pictures"] == 6


entry = st.dictionaries(
    st.sampled_from(
        ["id", "file_name", "name", "image_id", "category_id", "bbox", "iscrowd", "width", "height"]
    ),
    anything,
)
coco = st.fixed_dictionaries(
    {key: st.lists(entry, max_size=4) | anything for key in ("images", "annotations", "categories")}
)


@examples(150)
@given(document=coco | anything)
def test_any_coco_document(document):
    try:
        record = parse_coco(document, "truth.json")
    except InputError as error:
        assert "truth.json" in str(error)
    else:
        for picture in record.pictures:
            for each in picture.boxes:
                assert each.corners[0] < each.corners[2] and each.label < len(record.class_names)


PIXELS = encode_jpeg(np.random.default_rng(0).integers(0, 255, (40, 60, 3), dtype="uint8"))


@examples(150)
@given(
    place=st.integers(0, len(PIXELS) - 1),
    patch=st.binary(min_size=1, max_size=8),
    cut=st.integers(1, len(PIXELS)),
)
def test_any_damage_to_a_picture(place, patch, cut):
    damaged = (PIXELS[:place] + patch + PIXELS[place + len(patch) :])[:cut]
    try:
        assert read_picture(io.BytesIO(damaged), "belt.jpg").ndim == 3
    except InputError as error:
        assert "belt.jpg" in str(error)


@examples(60, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(content=st.binary(max_size=400))
def test_any_bytes_as_clip_or_model(tmp_path, content):
    clip, model = tmp_path / "belt.mp4", tmp_path / "model.zip"
    clip.write_bytes(content)
    model.write_bytes(content)
    with pytest.raises(InputError, match=r"belt\.mp4"):
        list(read_frames(clip))
    with pytest.raises(InputError, match=r"model\.zip"):
        read_bundle(model)
