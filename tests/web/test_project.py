"""Projects over HTTP."""

from tests.web.conftest import BASE


def test_projects_and_classes(client):
    made = client.post(f"{BASE}/projects", json={"name": "Belt"})
    assert made.status_code == 201 and made.json["stages"]["pictures"] == 0
    assert [each["name"] for each in client.get(f"{BASE}/projects").json["projects"]] == ["Belt"]
    classes = client.post(f"{BASE}/projects/1/classes", json={"name": "roll"}).json["classes"]
    assert classes[0]["position"] == 1 and classes[0]["boxes"] == 0
    renamed = client.patch(f"{BASE}/projects/1/classes/1", json={"name": "bun", "colour": "#123456"})
    assert renamed.json["classes"][0]["name"] == "bun" and renamed.json["classes"][0]["colour"] == "#123456"
    assert client.delete(f"{BASE}/projects/1/classes/1").json["classes"][0]["retired"]
