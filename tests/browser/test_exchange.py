"""Pictures and labels in and out in the real page: files, folders, archives, drops, and the split of what came."""

import base64
import json
import zipfile
from itertools import pairwise

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from avocet.demo.belt import render_still
from avocet.media.clip_writer import ClipWriter
from avocet.media.pictures import encode_jpeg
from avocet.store.tables import Clip, Picture

pytestmark = [pytest.mark.browser, pytest.mark.slow]


def test_files_come_in_and_each_has_an_outcome(page, tmp_path):
    fresh = tmp_path / "fresh.jpg"
    fresh.write_bytes(encode_jpeg(render_still(77).pixels))
    known = tmp_path / "known.jpg"
    known.write_bytes(encode_jpeg(render_still(0).pixels))
    bad = tmp_path / "half.jpg"
    bad.write_bytes(fresh.read_bytes()[:5000])
    page.open("collect")
    page.click("add")
    page.find("choose-files")
    page.find("file-input").send_keys(f"{fresh}\n{known}\n{bad}")
    page.find("upload", "1 picture added, 1 already there, 1 refused")
    page.find("upload", "half.jpg is damaged")
    page.until(lambda: len(page.all("card")) == 11, "eleven pictures")


DROP = """
const [name, text, done] = arguments;
const bytes = Uint8Array.from(atob(text), (letter) => letter.charCodeAt(0));
const carried = new DataTransfer();
carried.items.add(new File([bytes], name));
const place = document.querySelector('[data-test=grid]');
for (const kind of ['dragover', 'drop']) {
  place.dispatchEvent(new DragEvent(kind, {dataTransfer: carried, bubbles: true, cancelable: true}));
}
done();
"""


def test_a_picture_dropped_on_the_page(page):
    page.open("collect")
    page.until(lambda: len(page.all("card")) == 10, "ten pictures")
    text = base64.b64encode(encode_jpeg(render_still(78).pixels)).decode()
    page.driver.execute_async_script(DROP, "dropped.jpg", text)
    page.find("upload", "1 picture added")
    page.until(lambda: len(page.all("card")) == 11, "eleven pictures")
    page.click("label-added")
    page.stage()
    page.until(
        lambda: "dropped.jpg" in page.driver.find_element("tag name", "body").text, "it being labelled"
    )


def test_pictures_and_their_labels_chosen_at_once(page, tmp_path):
    picture, labels = tmp_path / "late.jpg", tmp_path / "late.jsonl"
    picture.write_bytes(encode_jpeg(render_still(80).pixels))
    labels.write_text('{"picture": "late.jpg", "boxes": [{"class": "ring", "corners": [1, 2, 30, 40]}]}')
    page.open("collect")
    page.click("add")
    page.find("choose-files")
    page.find("file-input").send_keys(f"{labels}\n{picture}")
    page.find("upload", "1 annotation file came with it")
    page.click("read-archive-labels")
    page.find("import-dialog", "1 box for 1 unlabelled picture")
    page.click("import-now")
    page.find("stage-collect", "7 of 11 labelled")
    page.click("add")
    page.find("choose-files")
    # Labels alone are read at once.
    page.find("file-input").send_keys(str(labels))
    page.find("import-dialog", "1 picture has labels already")


@pytest.mark.parametrize("copied", [True, False])
def test_a_folder_of_the_server(page, shelf, copied):
    page.open("collect")
    page.click("add")
    page.click("server-folder")
    # The one folder there is needs no choosing, and no dialog lies under its own.
    page.find("server-folders", "2 pictures in it")
    page.until(lambda: not any(each.is_displayed() for each in page.all("choose-files")), "one dialog")
    if not copied:
        page.click("in-place")
    page.click("take-folder")
    page.find("added", "2 pictures added")
    came = page.own("pictures?name=shelf")["pictures"]
    assert [each["source"] for each in came] == [shelf.name] * 2


def test_pictures_of_one_folder_are_split_all_the_same(page, sessions):
    """Kept whole they would fill but one part: what that means is said, and the split is made."""
    page.open("collect")
    page.find("stage-collect", "6 of 10 labelled")
    with sessions.begin() as session:
        for picture in session.query(Picture).filter(Picture.project_id == page.project):
            picture.source = "one day"
    page.click("split")
    page.find("parted-sources", "come from too few folders to keep each whole")
    page.click("split-now")
    page.until(lambda: page.own("split")["test"] > 0 and page.own("split")["training"] > 0, "a split")
    # With as many folders as parts they are kept whole.
    with sessions.begin() as session:
        pictures = session.query(Picture).filter(Picture.project_id == page.project).order_by(Picture.id)
        for number, picture in enumerate(pictures):
            picture.source = f"day {number % 3}"
    page.open("collect")
    page.click("split")
    page.find("split-form", "Keep folders and archives whole")
    page.until(
        lambda: page.driver.find_element(
            By.CSS_SELECTOR, "[data-test=split-form] .el-checkbox input"
        ).is_selected(),
        "folders kept whole",
    )
    page.click("split-now")
    page.until(
        lambda: len({(each["source"], each["part"]) for each in page.own("pictures")["pictures"]}) == 3,
        "each folder in a part of its own",
    )


def test_frames_of_one_clip_are_split_in_stretches(page, sessions):
    with sessions.begin() as session:
        clip = session.query(Clip).filter(Clip.project_id == page.project).one()
        pictures = session.query(Picture).filter(Picture.project_id == page.project).order_by(Picture.id)
        for number, picture in enumerate(pictures):
            picture.clip_id, picture.frame_number = clip.id, number
    page.open("collect")
    page.click("split")
    page.find("cut-clips", "each is cut into stretches")
    page.click("split-now")

    def parts():
        return [
            each["part"] for each in sorted(page.own("pictures")["pictures"], key=lambda each: each["id"])
        ]

    page.until(lambda: set(parts()) == {"training", "validation", "test"}, "three parts")
    assert sum(one != other for one, other in pairwise(parts())) == 2


@pytest.mark.long
def test_frames_of_a_clip(page, tmp_path):
    clip = tmp_path / "oven.mp4"
    with ClipWriter(clip, 320, 180, 10) as writer:
        for number in range(20):
            writer.write(render_still(90 + number // 10).pixels[number : number + 180, :320])
    page.open("collect")
    page.click("add")
    page.find("choose-files")
    page.find("file-input").send_keys(str(clip))
    page.find("clips-came", "oven.mp4")
    page.click("take-frames")
    page.find("planned", "4 frames of 20")
    page.click("sample")
    page.until(lambda: len(page.all("card")) == 14, "four frames more", 240)
    assert "oven-000005.png" in [p["name"] for p in page.own("pictures")["pictures"]]


@pytest.mark.long
def test_labels_out_and_in(page, tmp_path):
    labels = page.labels(1)
    labels["boxes"][0]["corners"][0] += 0.5
    page.fetch(f"/pictures/{page.pictures[0]}/labels", "PUT", labels)
    page.open("collect")
    page.click("export")
    page.click("format-voc")
    page.find("lost", "corners between pixels")
    page.click("format-coco")
    page.find("export-dialog", "COCO JSON holds all of it")
    page.click("export-now")
    page.gone("[data-test=export-dialog]")
    job = next(each for each in page.own("jobs")["jobs"] if each["kind"] == "export_labels")
    exported = page.fetch(f"/jobs/{job['id']}/file")
    assert len(exported["images"]) == 6
    exported["images"] = [
        {"id": 1, "file_name": "still-9.jpg", "width": 960, "height": 540},
        {"id": 2, "file_name": "nowhere.jpg", "width": 960, "height": 540},
    ]
    first = exported["annotations"][0]
    exported["annotations"] = [first | {"image_id": 1}, first | {"image_id": 1, "bbox": [1, 1, 0, 9]}]
    labels = tmp_path / "labels.json"
    labels.write_text(json.dumps(exported))
    page.keys(Keys.ESCAPE)
    page.gone(".el-overlay:not([style*=none])")
    page.click("import")
    page.find("import-dialog")
    page.find("import-file").send_keys(str(labels))
    page.find("import-dialog", "1 box for 1 unlabelled picture")
    page.find("import-dialog", "1 picture of the file is not here")
    page.find("import-problems", "has no area")
    page.click("import-now")
    page.find("stage-collect", "7 of 10 labelled")
    page.undo()
    page.find("stage-collect", "6 of 10 labelled")
    (tmp_path / "broken.json").write_text("{")
    page.gone(".el-overlay:not([style*=none])")
    page.click("import")
    page.find("import-file").send_keys(str(tmp_path / "broken.json"))
    page.find("import-failed", "broken.json is not JSON")


@pytest.mark.long
def test_a_table_whose_columns_are_chosen(page, tmp_path):
    table = tmp_path / "table.csv"
    table.write_text("Foto;Sorte;l;o;b;h\nstill-9.jpg;bun;10;20;30;40\n")
    page.open("collect")
    page.click("import")
    page.find("import-file").send_keys(str(table))
    page.find("columns", "Sorte")
    for number, (field, column) in enumerate(
        [
            ("Picture", "Foto"),
            ("Class", "Sorte"),
            ("Box", "Corner and size"),
            ("Unit", "Pixels"),
            *zip("xywh", "lobh", strict=True),
        ]
    ):
        page.choose(f"[data-test=columns] .picks label:nth-child({number + 1}) .el-select", column)
        assert field
    page.click("read-columns")
    page.find("import-dialog", "1 box for 1 unlabelled picture")
    page.find("import-now", "with 1 new class")
    page.click("import-now")
    page.find("stage-collect", "7 of 10 labelled")
    assert page.labels(10)["boxes"][0]["corners"] == [10, 20, 40, 60]


def test_an_archive_is_unpacked_and_its_labels_are_offered(page, belt, tmp_path):
    archive = tmp_path / "night.zip"
    with zipfile.ZipFile(archive, "w") as opened:
        opened.writestr("night/shift.jpg", encode_jpeg(render_still(79).pixels))
        opened.writestr("night/still-0.jpg", (belt / "still-0.jpg").read_bytes())
        opened.writestr("../evil.jpg", b"x")
        opened.writestr(
            "labels.jsonl",
            '{"picture": "night/shift.jpg", "boxes": [{"class": "ring", "corners": [1, 2, 30, 40]}]}',
        )
    page.open("collect")
    page.click("add")
    page.find("choose-files")
    page.find("file-input").send_keys(str(archive))
    page.find("added", "1 picture added, 1 already there, 1 refused")
    page.find("refused", "points outside of the archive")
    page.click("read-archive-labels")
    page.find("import-dialog", "1 box for 1 unlabelled picture")
    page.click("import-now")
    page.find("stage-collect", "7 of 11 labelled")
    assert [p["source"] for p in page.own("pictures?name=shift")["pictures"]] == ["night.zip/night"]
