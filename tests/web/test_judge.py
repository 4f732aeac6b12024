"""Judge and Anatomy over HTTP."""

import io
import json

from tests.conftest import write_coco_set
from tests.web.conftest import BASE


def test_everything_behind_the_figures(judged):
    assert judged.get(f"{BASE}/evaluations/1").json["report"]["pictures"] == 2
    url = f"{BASE}/evaluations/1"
    curves = judged.get(f"{url}/curves?minimum_score=0.01&ious=0.5&ious=0.9").json["curves"]
    assert len(curves) == 10 and {each["iou"] for each in curves} == {0.5, 0.9}
    kinds = judged.get(f"{url}/mistakes?minimum_score=0.01").json["kinds"]
    assert sorted(each["number"] for each in kinds) == list(range(10))
    gains = [each["gain"] or 0 for each in kinds]
    assert gains == sorted(gains, reverse=True) and all(each["count"] or not each["gain"] for each in kinds)
    worst = max(kinds, key=lambda kind: kind["count"])
    boxes = judged.get(f"{url}/mistakes/boxes?minimum_score=0.01&kind={worst['number']}").json
    assert boxes["total"] == worst["count"] and boxes["boxes"][0]["kind"] == worst["name"]
    x1, y1, x2, y2 = boxes["boxes"][0]["corners"]
    picture = f"{url}/pictures/{boxes['boxes'][0]['picture_id']}"
    assert judged.get(f"{picture}/crop?x1={x1}&y1={y1}&x2={x2}&y2={y2}").mimetype == "image/jpeg"
    assert judged.get(f"{picture}/file").status_code == judged.get(f"{picture}/thumbnail").status_code == 200
    assert judged.get(f"{url}/pictures/999/file").status_code == 404
    right = judged.get(f"{url}/calibration").json
    scores = [each["score"] for each in json.loads(judged.get(f"{url}/detections.json").text)]
    assert sum(right["counts"]) == sum(score >= right["lowest_score"] for score in scores) < len(scores)
    assert judged.get(f"{url}/calibration?class_index=1").status_code == 200
    assert judged.post(f"{url}/looks").json["looks"] == 1
    assert judged.get(f"{url}/figures.csv").text.startswith("class,")
    assert judged.get(f"{url}/figures.json").json["model"] == "quick"
    assert isinstance(json.loads(judged.get(f"{url}/detections.json").text), list)
    assert judged.get(f"{url}/beside/1").json["words"] == "quick and quick find the same."
    assert judged.get(f"{url}/beside/9").status_code == 404
    scores = {"scores": {"roll": 0.5}}
    assert judged.put(f"{BASE}/runs/1/minimum-scores", json=scores).json["minimum_scores"] == {"roll": 0.5}


def test_doubts_over_http(judged, work):
    judged.post(f"{BASE}/projects/1/evaluations", json={"run_id": 1, "part": "training"})
    work()
    url = f"{BASE}/evaluations/2/doubts"
    found = judged.get(url).json
    # An untrained network finds nothing: every label is in doubt, a little.
    assert found["total"] > 10 and {each["kind"] for each in found["doubts"]} == {"background"}
    done = judged.post(f"{url}/0/accept").json
    assert "taken off" in done["title"]
    assert judged.get(url).json["doubts"][0]["state"] == "mended"
    assert judged.post(f"{BASE}/projects/1/changes/{done['change_id']}/undo").status_code == 200
    assert judged.put(f"{url}/0/fine", json={"fine": True}).json["doubts"][0]["state"] == "fine"
    assert judged.post(f"{url}/9999/accept").status_code == 404


def test_files_from_outside(judged, work, frames, tmp_path):
    truth = write_coco_set(tmp_path, frames[:1])
    document = json.loads(truth.read_text())
    rows = [
        {key: each[key] for key in ("image_id", "category_id", "bbox")} | {"score": 0.5}
        for each in document["annotations"]
    ]

    def send(**files):
        form = {name: (io.BytesIO(content), called) for name, (content, called) in files.items()}
        return judged.post(
            f"{BASE}/projects/1/evaluations/upload",
            data=form | {"order": "{}"},
            content_type="multipart/form-data",
        )

    sent = send(
        detections=(json.dumps(rows).encode(), "found.json"), truth=(truth.read_bytes(), "truth.json")
    )
    assert sent.status_code == 202, sent.json
    work()
    made = judged.get(f"{BASE}/evaluations/{sent.json['id']}").json
    assert (
        made["report"]["map"] == 1
        and made["part"] is None
        and made["settings"]["sent"]["truth"] == "truth.json"
    )
    assert (
        "was not sent along" in judged.get(f"{BASE}/evaluations/{made['id']}/pictures/1/file").json["detail"]
    )
    assert send().status_code == 422
    assert "choose one model" in send(truth=(b"{}", "truth.json")).json["detail"]
    broken = send(detections=(b"", "empty.json"), truth=(truth.read_bytes(), "truth.json")).json
    work()
    assert "empty.json is empty" in judged.get(f"{BASE}/evaluations/{broken['id']}").json["job"]["message"]


def test_what_is_in_the_bin_is_listed_and_restored(judged):
    def listed(query=""):
        found = judged.get(f"{BASE}/projects/1/evaluations{query}").json["evaluations"]
        return [each["id"] for each in found]

    assert (listed(), listed("?binned=true")) == ([1], [])
    judged.put(f"{BASE}/evaluations/1/binned", json={"binned": True})
    assert (listed(), listed("?binned=true")) == ([], [1])
    judged.put(f"{BASE}/evaluations/1/binned", json={"binned": False})
    assert (listed(), listed("?binned=true")) == ([1], [])
