"""``avocet detect``: what counts, how densely, and what is counted."""

import csv
import json

import numpy as np
import pytest
from click.testing import CliRunner

from avocet.cli.detecting import detect
from avocet.core.errors import InputError
from avocet.demo.belt import MovingBelt
from avocet.media.clip_writer import ClipWriter
from avocet.work.use.running.record import read_record
from tests.deep import deep_png
from tests.ready import trained_bundle


@pytest.fixture(scope="module")
def belt(tmp_path_factory):
    """A model, and a clip of the belt of two seconds."""
    place = tmp_path_factory.mktemp("belt")
    (place / "model.zip").write_bytes(trained_bundle())
    moving = MovingBelt(5, 20, speed=12.0)
    with ClipWriter(place / "belt.mp4", 960, 540, 10) as writer:
        for number in range(20):
            writer.write(moving.frame(number).pixels)
    return place


def run(belt, *more):
    asked = [str(each) for each in ("--model", belt / "model.zip", belt / "belt.mp4", *more)]
    return CliRunner().invoke(detect, asked, catch_exceptions=False)


@pytest.mark.long
@pytest.mark.slow
def test_lines_and_regions_are_counted(belt, tmp_path):
    done = run(
        belt, "--out", tmp_path, "--copies", "none", "--count-line", "gate: 0,0.5 1,0.5: oven | packing",
        "--count-region", "all: 0,0 1,0 1,1 0,1",
    )  # fmt: skip
    assert done.exit_code == 0, done.output
    rows = list(csv.DictReader((tmp_path / "counts.csv").open()))
    over = [row for row in rows if row["kind"] == "line"]
    # Goods go straight down, so each keeps its place across the belt.
    at_first, at_last = (
        {(x1 + x2) / 2: (y1 + y2) / 2 for x1, y1, x2, y2 in MovingBelt(5, 20, speed=12.0).frame(number).boxes}
        for number in (0, 19)
    )
    passed = sum(at_first[x] < 270 < at_last[x] for x in set(at_first) & set(at_last))
    assert passed > 2 and len(over) == passed
    assert f"belt.mp4, gate: {passed} from oven to packing, 0 back" in done.output
    assert {row["clip"] for row in rows} == {"belt.mp4"} and {row["to"] for row in over} == {"packing"}
    assert any(row["kind"] == "region" and float(row["until_seconds"]) > 0 for row in rows)
    # Another run without lines leaves no counts of the former one behind.
    assert run(belt, "--out", tmp_path, "--copies", "none", "--every", 10).exit_code == 0
    assert not (tmp_path / "counts.csv").exists()


@pytest.mark.slow
def test_how_densely_and_what_counts(belt, tmp_path):
    done = run(
        belt, "--out", tmp_path, "--copies", "none", "--a-second", 5, "--tile", 480, "--suppression", "gaussian",
        "--minimum-score", 0.5, "--minimum-score", "roll=0.9", "--region", "0,0 0.5,0 0.5,1 0,1",
    )  # fmt: skip
    assert done.exit_code == 0, done.output
    rows = list(read_record(tmp_path / "detections.jsonl"))
    assert [row["frame"] for row in rows] == list(range(0, 20, 2))
    found = [each for row in rows for each in row["detections"]]
    assert found and all(each["score"] >= (0.9 if each["class"] == "roll" else 0.5) for each in found)
    assert all((each["box"][0] + each["box"][2]) / 2 <= 480 for each in found)
    kept = json.loads((tmp_path / "order.json").read_text())["order"]
    assert (kept["tile"], kept["suppression"], kept["minimum_scores"]) == (480, "gaussian", {"roll": 0.9})


@pytest.mark.parametrize(
    ("asked", "said"),
    [
        (["--count-line", "gate"], "a line needs two points"),
        (["--count-line", "gate: 0,0 1,x"], "'1,x' is no point"),
        (["--count-line", "gate: 0,0 1,1: a | b | c"], "is no line"),
        (["--count-line", "gate: 0,0 1,7"], "outside of the picture"),
        (["--count-region", "tray: 0,0 1,1"], "a region needs three points"),
        (["--region", "0,0"], "three corners"),
        (["--minimum-score", "roll=x"], "'x' is no number"),
        (["--minimum-score", "roll=7"], "between 0 and 1, not 7"),
        (["--minimum-score", "brick=0.5"], "does not know the class 'brick'"),
        (["--tile", "3"], "tile should be greater than or equal to 64, not 3"),
        (["--a-second", "0"], "a second should be greater than 0, not 0.0"),
        (["--a-second", "3", "--every", "2"], "not both"),
    ],
)
def test_what_cannot_be_is_named_and_nothing_is_written(belt, tmp_path, asked, said):
    with pytest.raises(InputError, match=said.replace("|", r"\|")):
        run(belt, "--out", tmp_path / "out", *asked)
    assert not (tmp_path / "out").exists()


def test_counts_need_a_folder(belt):
    with pytest.raises(InputError, match="name one with --out"):
        run(belt, "--out", "-", "--count-line", "gate: 0,0.5 1,0.5")


@pytest.mark.slow
def test_the_white_of_deep_pictures_is_told_and_chosen(belt, tmp_path):
    grey = MovingBelt(5, 20).frame(0).pixels.mean(axis=2) / 255
    for name, share in (("a", 0.9), ("b", 0.15)):
        (tmp_path / f"{name}.png").write_bytes(deep_png((grey * share * 4095).astype(np.uint16)))
    asked = ["--model", belt / "model.zip", tmp_path / "a.png", tmp_path / "b.png", "--copies", "none"]
    for more, white in (((), "4,095"), (("--white", 600), "600")):
        given = [str(each) for each in (*asked, "--out", tmp_path / f"out{white}", *more)]
        done = CliRunner().invoke(detect, given, catch_exceptions=False)
        assert done.exit_code == 0 and f"2 pictures of more than 8 bits, white at {white}" in done.output
    one, other = (
        [row["detections"] for row in read_record(tmp_path / f"out{white}" / "detections.jsonl")]
        for white in ("4,095", "600")
    )
    assert one != other
