"""Anatomy over HTTP."""

import pytest

from tests.web.conftest import BASE


def test_anatomy_over_http(judged, work):
    picture = judged.get(f"{BASE}/projects/1/pictures").json["pictures"][0]
    started = judged.post(f"{BASE}/runs/1/anatomies", json={"picture_id": picture["id"]})
    assert started.status_code == 202
    work()
    url = f"{BASE}/anatomies/{started.json['job']['id']}"
    whole = judged.get(url).json
    assert [each["stride"] for each in whole["levels"]] == [8, 16, 32] and len(whole["truths"]) == picture[
        "boxes"
    ]
    level = whole["levels"][0]
    assert len(level["objectness"]) == level["rows"] * level["columns"] == len(level["best_class"])
    kept = {}
    for way in ("by class", "across classes", "linear", "gaussian"):
        found = judged.get(f"{url}/fates", query_string={"minimum_score": 0.01, "suppression": way}).json
        assert found["funnel"] == sorted(found["funnel"], reverse=True)
        kept[way] = sum(each["fate"] == "kept" for each in found["candidates"])
        assert kept[way] == found["funnel"][3]
    assert kept["across classes"] <= kept["by class"]
    first = found["candidates"][0]
    place = {key: first[key] for key in ("level", "row", "column", "anchor")}
    made = judged.get(f"{url}/cell", query_string=place).json
    assert made["number"] == first["number"] and made["score"] == pytest.approx(first["score"])
    near = judged.get(f"{url}/near?truth=0&minimum_score=0.01").json["candidates"]
    assert all(each["truth_overlap"] >= 0.1 for each in near)
    assert judged.get(f"{url}/near?truth=999").status_code == 404
    assert judged.get(f"{url}/cell?level=9&row=0&column=0&anchor=0").status_code == 404
    assert judged.get(f"{BASE}/anatomies/9999").status_code == 404
    assert judged.get(f"{url}/fates?suppression=hard").status_code == 422
