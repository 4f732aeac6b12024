"""Classes, attributes and boxes over HTTP."""

import pytest

from tests.web.conftest import BASE


@pytest.mark.slow
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
    crust = f"{attributes}/{made[-1]['id']}"
    choices = [{"value": "light", "was": "pale"}, {"value": "dark", "was": "dark"}, {"value": "black"}]
    renamed = client.patch(crust, json={"name": "colour", "choices": choices}).json
    assert (renamed["title"], renamed["changed"]) == ("crust renamed to colour", 0)
    assert client.get(attributes).json["attributes"][-1]["choices"] == ["light", "dark", "black"]
    assert client.delete(crust).json["title"] == "Attribute colour removed"
    assert len(client.get(attributes).json["attributes"]) == 3
    assert client.delete(crust).status_code == 404
    assert "every project" in client.delete(f"{attributes}/1").json["detail"]
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
    undone = client.post(f"{BASE}/projects/1/changes/{moved['change_id']}/undo").json
    assert undone["pictures"] == 2 and undone["kept"] == 0
    assert [each["undone"] for each in client.get(f"{BASE}/projects/1/changes").json["changes"]] == [
        False,
        True,
    ]
    titles = [each["title"] for each in client.get(f"{BASE}/projects/1/changes").json["changes"]]
    assert titles == ["Class baguette added", "2 pictures moved to test"]
    again = client.post(f"{BASE}/projects/1/changes/{moved['change_id']}/undo")
    assert again.status_code == 422 and "undone already" in again.json["detail"]
    assert client.post(f"{BASE}/projects/1/changes/99/undo").status_code == 404


def test_undoing_that_a_class_was_added_takes_it_away_unless_it_has_boxes(client, labelled):
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
    assert names(True) == [] and names(False) == [*before, "baguette"]


class TestManyPictures:
    """What is asked of very many pictures is done by a job, with the same outcome."""

    @pytest.fixture(autouse=True)
    def few(self, monkeypatch):
        monkeypatch.setattr("avocet.web.context.MOST_AT_ONCE", 2)

    def done(self, client, work, reply):
        assert reply.status_code == 202
        work()
        job = client.get(f"{BASE}/jobs/{reply.json['job']['id']}").json
        assert job["state"] == "done", job["message"]
        return job["outcome"][job["kind"]]

    @pytest.mark.parametrize(
        ("asked", "given", "title"),
        [
            ("parts", {"part": None}, "6 pictures moved to unassigned"),
            ("bin", {"binned": True}, "6 pictures moved to the bin"),
            ("tags", {"tag": "glare", "on": True}, "6 pictures tagged glare"),
        ],
    )
    def test_filed_and_back(self, client, labelled, work, asked, given, title):
        ids = client.get(f"{BASE}/projects/1/picture-ids").json["ids"]

        def pictures():
            listed = client.get(f"{BASE}/projects/1/pictures").json["pictures"]
            return [(each["id"], each["part"], each["tags"]) for each in listed]

        before = pictures()
        made = self.done(client, work, client.put(f"{BASE}/projects/1/{asked}", json={"ids": ids} | given))
        assert (made["title"], made["changed"]) == (title, 6) and pictures() != before
        undone = client.post(f"{BASE}/projects/1/changes/{made['change_id']}/undo")
        assert self.done(client, work, undone) == {"title": title, "pictures": 6, "kept": 0}
        assert pictures() == before

    def test_merged_and_back(self, client, labelled, work):
        def counts():
            listed = client.get(f"{BASE}/projects/1/classes").json["classes"]
            return {each["name"]: (each["id"], each["boxes"], each["retired"]) for each in listed}

        before = counts()
        (ring, rings, _), (roll, rolls, _) = before["ring"], before["roll"]
        asked = client.post(f"{BASE}/projects/1/classes/{ring}/merge", json={"into_id": roll})
        made = self.done(client, work, asked)
        assert made["changed"] == rings
        assert counts()["roll"][1] == rings + rolls and counts()["ring"][1:] == (0, True)
        self.done(client, work, client.post(f"{BASE}/projects/1/changes/{made['change_id']}/undo"))
        assert counts() == before

    def test_a_change_waits_while_another_is_under_way(self, client, labelled, work):
        first = client.put(f"{BASE}/projects/1/parts", json={"ids": [1, 2, 3], "part": "test"})
        small = client.put(f"{BASE}/projects/1/tags", json={"ids": [1], "tag": "glare", "on": True})
        assert (first.status_code, small.status_code) == (202, 202)
        work()
        assert client.put(f"{BASE}/projects/1/bin", json={"ids": [1], "binned": True}).status_code == 200

    def test_what_cannot_be_done_is_said_at_once(self, client, labelled):
        wrong = client.post(f"{BASE}/projects/1/classes/1/merge", json={"into_id": 1})
        assert wrong.status_code == 422 and "cannot be merged into itself" in wrong.json["detail"]
        assert client.post(f"{BASE}/projects/1/changes/99/undo").status_code == 404
        assert client.put(f"{BASE}/projects/9/bin", json={"ids": [1], "binned": True}).status_code == 404


def test_where_boxes_come_from_stays_and_can_be_filtered_by(client, labelled):
    labels = client.get(f"{BASE}/pictures/1").json["labels"]
    boxes = labels["boxes"][:3]
    assert {each["origin"] for each in boxes} == {None}
    boxes[0]["class_id"] = boxes[1]["class_id"] = boxes[2]["class_id"] = 2
    boxes[1]["origin"], boxes[2]["origin"] = "run 3", "imported"
    body = {"revision": labels["revision"], "state": "done", "boxes": boxes}
    saved = client.put(f"{BASE}/pictures/1/labels", json=body).json["labels"]
    assert [each["origin"] for each in saved["boxes"]] == [None, "run 3", "imported"]

    def pictures(origin):
        return [p["id"] for p in client.get(f"{BASE}/projects/1/pictures?origin={origin}").json["pictures"]]

    assert (pictures("proposed"), pictures("imported"), pictures("carried")) == ([1], [1], [])
    assert len(pictures("hand")) == 6
    sheet = client.get(f"{BASE}/projects/1/sheet?class_id=2&origin=proposed").json
    assert sheet["total"] == 1 and sheet["crops"][0]["corners"] == boxes[1]["corners"]
    assert client.get(f"{BASE}/projects/1/sheet?class_id=2&origin=elsewhere").status_code == 422
    # Turned into another class as one of many, and back again: it is still known.
    changed = client.post(
        f"{BASE}/projects/1/boxes", json={"ids": [sheet["crops"][0]["id"]], "class_id": 1}
    ).json
    again = client.get(f"{BASE}/pictures/1").json["labels"]["boxes"]
    assert [each["origin"] for each in again] == [None, "run 3", "imported"]
    client.post(f"{BASE}/projects/1/changes/{changed['change_id']}/undo")
    assert client.get(f"{BASE}/pictures/1").json["labels"]["boxes"] == saved["boxes"]
