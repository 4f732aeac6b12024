"""Classes, attributes and boxes over HTTP."""

import pytest

from tests.web.conftest import BASE


def test_classes_and_attributes(client, labelled):
    url = f"{BASE}/projects/1/classes"
    names = lambda: [each["name"] for each in client.get(url).json["classes"] if not each["retired"]]  # noqa: E731
    before = names()
    pasted = client.post(f"{url}/pasted", json={"text": "bun\nbraid"}).json
    assert names() == [*before, "bun", "braid"]
    client.post(f"{BASE}/projects/1/changes/{pasted['change_id']}/undo")
    assert names() == before
    ids = [each["id"] for each in client.get(url).json["classes"] if not each["retired"]]
    client.put(f"{url}/order", json={"ids": ids[::-1]})
    assert names() == before[::-1]
    merged = client.post(f"{url}/{ids[0]}/merge", json={"into_id": ids[1]}).json
    assert len(names()) == len(ids) - 1
    client.post(f"{BASE}/projects/1/changes/{merged['change_id']}/undo")
    assert len(names()) == len(ids)
    attributes = f"{BASE}/projects/1/attributes"
    body = {"name": "crust", "kind": "choice", "choices": ["pale", "dark"], "class_id": ids[0]}
    made = client.post(attributes, json=body).json["attributes"]
    assert made[-1]["choices"] == ["pale", "dark"] and made[-1]["boxes"] == 0
    assert len(client.delete(f"{attributes}/{made[-1]['id']}").json["attributes"]) == 3
    assert client.post(attributes, json=body | {"class_id": 999}).status_code == 404


def test_stale_labels_get_409_and_both_versions(client, labelled):
    before = client.get(f"{BASE}/pictures/1").json["labels"]
    box = {"class_id": 1, "corners": [1, 2, 30, 40]}
    saved = client.put(
        f"{BASE}/pictures/1/labels", json={"revision": before["revision"], "state": "done", "boxes": [box]}
    )
    assert saved.status_code == 200 and saved.json["labels"]["boxes"][0]["corners"] == [1, 2, 30, 40]
    stale = client.put(
        f"{BASE}/pictures/1/labels", json={"revision": before["revision"], "state": "done", "boxes": []}
    )
    assert stale.status_code == 409 and stale.json["current"]["boxes"][0]["corners"] == [1, 2, 30, 40]
    assert client.get(f"{BASE}/pictures/1").json["labels"] == saved.json["labels"]


@pytest.mark.parametrize("corners", [[1, 2, 1, 5], [0, 0, "NaN", 4], [1, 2, 3]])
def test_unusable_boxes_change_nothing(client, labelled, corners):
    before = client.get(f"{BASE}/pictures/1").json
    body = {
        "revision": before["labels"]["revision"],
        "state": "done",
        "boxes": [{"class_id": 1, "corners": corners}],
    }
    assert client.put(f"{BASE}/pictures/1/labels", json=body).status_code == 422
    assert client.get(f"{BASE}/pictures/1").json == before


def test_changes_are_listed_and_undone_long_after(client, labelled):
    moved = client.put(f"{BASE}/projects/1/parts", json={"ids": [1, 2], "part": "test"}).json
    client.post(f"{BASE}/projects/1/classes", json={"name": "baguette"})
    listed = client.get(f"{BASE}/projects/1/changes").json["changes"]
    assert [each["title"] for each in listed] == ["Class baguette added", "2 pictures moved to test"]
    assert not any(each["undone"] for each in listed)
    undone = client.post(f"{BASE}/projects/1/changes/{moved['id']}/undo").json
    assert undone["pictures"] == 2 and undone["kept"] == 0
    assert [each["undone"] for each in client.get(f"{BASE}/projects/1/changes").json["changes"]] == [
        False,
        True,
    ]
    again = client.post(f"{BASE}/projects/1/changes/{moved['id']}/undo")
    assert again.status_code == 422 and "undone already" in again.json["detail"]
    assert client.post(f"{BASE}/projects/1/changes/99/undo").status_code == 404


def test_undoing_that_a_class_was_added_retires_it_unless_it_has_boxes(client, labelled):
    def names(retired):
        listed = client.get(f"{BASE}/projects/1/classes").json["classes"]
        return [each["name"] for each in listed if each["retired"] == retired]

    before = names(False)
    for name in ("baguette", "bun"):
        client.post(f"{BASE}/projects/1/classes", json={"name": name})
    baguette = next(
        each["id"]
        for each in client.get(f"{BASE}/projects/1/classes").json["classes"]
        if each["name"] == "baguette"
    )
    box = {"class_id": baguette, "corners": [10, 10, 50, 50], "crowd": False, "attributes": {}, "track": None}
    revision = client.get(f"{BASE}/pictures/1").json["labels"]["revision"]
    body = {"revision": revision, "state": "done", "boxes": [box]}
    assert client.put(f"{BASE}/pictures/1/labels", json=body).status_code == 200
    changes = {each["title"]: each["id"] for each in client.get(f"{BASE}/projects/1/changes").json["changes"]}
    client.post(f"{BASE}/projects/1/changes/{changes['Class baguette added']}/undo")
    assert names(True) == [] and names(False) == [*before, "baguette", "bun"]
    client.post(f"{BASE}/projects/1/changes/{changes['Class bun added']}/undo")
    assert names(True) == ["bun"] and names(False) == [*before, "baguette"]
