"""The command line: what it does, what it says, how it ends."""

import json
import re
import subprocess
import sys
from types import SimpleNamespace

import numpy as np
import pytest
from click.testing import CliRunner
from PIL import Image

from avocet.cli.main import COMMANDS, main
from avocet.cli.main import avocet as commands
from avocet.demo.belt import Frame
from avocet.detector.model.card import read_bundle_parts
from avocet.store.database import open_database
from avocet.store.folder import DataFolder
from avocet.store.tables import JobState
from avocet.work.train.runs import list_runs
from tests.conftest import write_coco_set


def avocet(*arguments, check=True):
    """Run the command in a process of its own."""
    command = [sys.executable, "-m", "avocet.cli.main", *map(str, arguments)]
    done = subprocess.run(command, capture_output=True, text=True, timeout=900)
    if check:
        assert done.returncode == 0, done.stderr
    return done


@pytest.fixture
def answer(capsys):
    """Runs the command in this process: quicker where many are asked."""

    def ask(*arguments):
        code = 0
        try:
            main([str(each) for each in arguments])
        except SystemExit as ended:
            code = ended.code
        said = capsys.readouterr()
        return SimpleNamespace(returncode=code, stdout=said.out, stderr=said.err)

    return ask


def tiles(count, seed=0, mode="RGB", width=120, height=80):
    """Pictures unlike the belt: bright or dark squares and bars on noise."""
    random = np.random.default_rng(seed)
    made = []
    for _ in range(count):
        pixels = random.integers(90, 120, (height, width, 3), dtype=np.uint8)
        boxes, classes = [], []
        for kind, size, colour in (("square", (22, 22), 240), ("bar", (40, 12), 10)):
            x, y = (
                int(random.integers(0, side - own)) for side, own in zip((width, height), size, strict=True)
            )
            pixels[y : y + size[1], x : x + size[0]] = colour
            boxes.append([x, y, x + size[0], y + size[1]])
            classes.append(kind)
        picture = Image.fromarray(pixels).convert(mode)
        made.append(Frame(np.asarray(picture), np.array(boxes, float), classes, []))
    return made


@pytest.fixture(scope="module")
def trained(tmp_path_factory):
    """Two classes that no project has seen, in grey and with alpha, through import and train."""
    place = tmp_path_factory.mktemp("cli")
    truth = write_coco_set(
        place / "set", tiles(6) + tiles(6, 1, "L", 100, 100) + tiles(4, 2, "RGBA", 90, 140), suffix=".png"
    )
    done = avocet(
        "import", truth, "--pictures", place / "set", "--project", "tiles", "--data", place / "data"
    )
    assert "16 pictures with 32 boxes taken into 'tiles'" in done.stdout
    assert "Labelled: 10 training, 3 validation, 3 test" in done.stdout
    done = avocet(
        "train",
        "--project",
        "tiles",
        "--data",
        place / "data",
        "--size",
        "stint",
        "--side",
        "128",
        "--epochs",
        "15",
        "--batch",
        "4",
        "--seed",
        "1",
        "--save",
        place / "model.zip",
    )
    assert "Model written to" in done.stdout and "Best epoch" in done.stdout
    assert "Training" in done.stderr and "100%" in done.stderr
    return place


@pytest.mark.long
@pytest.mark.slow
def test_evaluate_reports(trained):
    held = write_coco_set(trained / "held", tiles(5, 9), suffix=".png")
    done = avocet(
        "evaluate",
        "--model",
        trained / "model.zip",
        "--truth",
        held,
        "--pictures",
        trained / "held",
        "--report",
        trained / "figures.json",
    )
    figures = json.loads((trained / "figures.json").read_text())
    assert figures["map50"] > 0.8 and 0 < figures["map"] <= figures["map50"] and figures["pictures"] == 5
    assert set(figures["classes"]) == {"square", "bar"}
    assert (
        figures["classes"]["bar"]["truths"] == 5
        and 0 <= figures["classes"]["bar"]["ap"] <= figures["classes"]["bar"]["ap50"]
    )
    assert f"{figures['map50']:.3f}" in done.stdout


@pytest.mark.long
@pytest.mark.slow
def test_a_model_is_tried_in_eight_bits_after_its_training(trained):
    once = ("--size", "wren", "--side", "96", "--epochs", "1", "--batch", "4")
    done = avocet(
        "train", "--project", "tiles", "--data", trained / "data", *once, "--eight-bits",
        "--save", trained / "small.zip",
    )  # fmt: skip
    said = re.search(r"^8 bits are (not )?used: .*$", done.stdout, re.MULTILINE)
    assert said, done.stdout
    assert bool(read_bundle_parts(trained / "small.zip")[0].value_ranges) == (said[1] is None)


def results_of(truth, score=0.9):
    """Detections that repeat a COCO file's truths."""
    document = json.loads(truth.read_text())
    return [
        {key: each[key] for key in ("image_id", "category_id", "bbox")} | {"score": score}
        for each in document["annotations"]
    ]


@pytest.mark.slow
def test_evaluate_takes_detections_of_any_program(tmp_path, answer):
    truth = write_coco_set(tmp_path / "set", tiles(6, 3), suffix=".png")
    rows = results_of(truth)
    (tmp_path / "all.json").write_text(json.dumps(rows))
    (tmp_path / "half.json").write_text(json.dumps(rows[::2]))
    strange = [row | {"category_id": row["category_id"] + 50} for row in rows]
    (tmp_path / "strange.json").write_text(json.dumps(strange))
    given = ("evaluate", "--truth", truth, "--csv", tmp_path / "f.csv", "--report", tmp_path / "f.json")
    done = answer(*given, "--detections", tmp_path / "all.json", "--against", tmp_path / "half.json")
    figures = json.loads((tmp_path / "f.json").read_text())
    assert figures["map"] == figures["map50"] == 1 and figures["flawless"] == 6
    assert (tmp_path / "f.csv").read_text().splitlines()[-1].startswith("mean,1.0")
    assert "all.json measures +" in done.stdout and "Kinds of error" in done.stdout
    assert "background" in done.stdout and "square: 0.900 gives precision 1.000" in done.stdout
    # Every score is alike there: the minimum score of the command is the one that errors are counted above.
    for least, background in (("0.5", len(rows)), ("0.95", 0)):
        moved = [row | {"bbox": [0, 0, 3, 3]} for row in rows]
        (tmp_path / "moved.json").write_text(json.dumps(moved))
        told = answer(*given, "--detections", tmp_path / "moved.json", "--minimum-score", least).stdout
        classes = [line.split() for line in told.splitlines()[1:3]]
        assert {line[0] for line in classes} == {"bar", "square"}
        assert sum(int(line[-2]) for line in classes) == background, "false alarms from that score on"
        kinds = told.split("Kinds of error")[1].splitlines()
        assert f"above {least}" in kinds[0]
        assert (
            next(int(line.split()[1]) for line in kinds if line.split()[:1] == ["background"]) == background
        )
    done = answer(*given, "--detections", tmp_path / "strange.json")
    assert done.returncode == 1 and "say which class each means: 6" in done.stderr
    answer(*given, "--detections", tmp_path / "strange.json", "--map", "60=bar", "--map", "61=square")
    assert json.loads((tmp_path / "f.json").read_text())["map"] == 1
    done = answer(*given)
    assert done.returncode == 2 and "name either --model or --detections" in done.stderr
    done = answer(*given, "--detections", tmp_path / "all.json", "--map", "60")
    assert done.returncode == 1 and "not built like SAID=MEANT" in done.stderr


@pytest.mark.long
@pytest.mark.slow
def test_explain_tells_what_became_of_every_candidate(trained):
    picture = next((trained / "set").glob("*.png"))
    done = avocet("explain", "--model", trained / "model.zip", picture, "--out", trained / "explained.json")
    document = json.loads((trained / "explained.json").read_text())
    kept = [each for each in document["candidates"] if each["fate"] == "kept"]
    assert len(kept) == document["funnel"]["kept"] >= 1 and f"{len(kept)} kept" in done.stdout
    assert {each["class"] for each in kept} <= {"square", "bar"}
    assert kept[0]["arithmetic"]["score"] == pytest.approx(kept[0]["score"])
    dropped = [each for each in document["candidates"] if each["fate"] == "dropped"]
    assert all(each["overlap"] > 0.5 for each in dropped)
    assert document["funnel"]["all"] > document["funnel"]["above_minimum_score"] >= len(kept) + len(dropped)
    done = avocet("explain", "--model", trained / "model.zip", trained / "none.png", check=False)
    assert done.returncode == 1 and "none.png" in done.stderr


@pytest.mark.long
@pytest.mark.slow
def test_detect_writes_everything(trained):
    held = write_coco_set(trained / "seen", tiles(3, 11), suffix=".png")
    (trained / "seen" / "bad.jpg").write_text("no picture")
    done = avocet(
        "detect",
        "--model",
        trained / "model.zip",
        trained / "seen",
        "--out",
        trained / "out",
        "--minimum-score",
        "0.3",
        check=False,
    )
    assert done.returncode == 1 and "bad.jpg is not a JPEG" in done.stderr
    document = json.loads((trained / "out" / "detections.json").read_text())
    truth = {image["file_name"] for image in json.loads(held.read_text())["images"]}
    assert {picture["name"] for picture in document["pictures"]} == truth
    assert len(list((trained / "out" / "annotated").iterdir())) == 3
    assert (
        (trained / "out" / "detections.csv")
        .read_text()
        .startswith("picture,frame,seconds,class,score,x1,y1,x2,y2")
    )
    assert f"{document['summary']['detections']} boxes in 3 pictures" in done.stdout
    # Results within the folder looked at are not taken for pictures the next time.
    inside = trained / "seen" / "found"
    for _ in range(2):
        done = avocet(
            "detect", "--model", trained / "model.zip", trained / "seen", "--out", inside, check=False
        )
        assert "in 3 pictures" in done.stdout


@pytest.mark.slow
def test_importing_again_changes_nothing(trained):
    arguments = (
        "import",
        trained / "set" / "truth.json",
        "--pictures",
        trained / "set",
        "--project",
        "tiles",
        "--data",
        trained / "data",
    )
    assert "16 pictures had labels already, left as they were" in avocet(*arguments).stdout


@pytest.mark.long
@pytest.mark.slow
def test_unusable_input_is_one_line_and_an_exit_code(trained, tmp_path, answer):
    broken = tmp_path / "broken.json"
    broken.write_text("{")
    other = write_coco_set(
        tmp_path / "other", [Frame(np.zeros((40, 40, 3), np.uint8), np.array([[1, 1, 9, 9.0]]), ["nut"], [])]
    )
    faulty = json.loads((trained / "set" / "truth.json").read_text())
    faulty["images"].append({"id": 99, "file_name": "missing.png"})
    (tmp_path / "faulty.json").write_text(json.dumps(faulty))
    (tmp_path / "model.zip").write_text("no bundle")
    model, data, images = trained / "model.zip", trained / "data", trained / "set"
    cases = [
        (
            ("import", broken, "--pictures", images, "--project", "p", "--data", tmp_path / "d"),
            "broken.json is not JSON",
        ),
        (
            (
                "import",
                tmp_path / "gone.json",
                "--pictures",
                images,
                "--project",
                "p",
                "--data",
                tmp_path / "d",
            ),
            "gone.json: there is no such file",
        ),
        (
            (
                "import",
                trained / "set" / "truth.json",
                "--pictures",
                tmp_path / "no",
                "--project",
                "p",
                "--data",
                tmp_path / "d",
            ),
            "no: there is no such folder",
        ),
        (
            (
                "import",
                tmp_path / "faulty.json",
                "--pictures",
                images,
                "--project",
                "p",
                "--data",
                tmp_path / "d",
            ),
            "missing.png",
        ),
        (
            (
                "import",
                trained / "set" / "truth.json",
                "--pictures",
                images,
                "--project",
                "p",
                "--data",
                tmp_path / "d",
                "--split",
                "1,x",
            ),
            "--split takes three ratios",
        ),
        (
            ("import", trained / "set" / "truth.json", "--project", "nobody", "--data", data),
            "there are 'tiles'. To make it, name the folder of its pictures with --pictures",
        ),
        (("train", "--project", "nobody", "--data", data), "no project called 'nobody'; there are 'tiles'"),
        (("train", "--project", "tiles", "--data", tmp_path), "is no data folder"),
        (
            ("train", "--project", "tiles", "--data", data, "--side", "100"),
            "input side must be a multiple of 32 between 96 and 2,048, not 100",
        ),
        (
            ("train", "--project", "tiles", "--data", data, "--cluster", "nonsense"),
            "--cluster takes HOST:PORT or local, not 'nonsense'",
        ),
        (
            ("train", "--project", "tiles", "--data", data, "--cluster", "127.0.0.1:1"),
            "no cluster answers at 127.0.0.1:1",
        ),
        (
            ("evaluate", "--model", tmp_path / "model.zip", "--truth", other, "--pictures", tmp_path),
            "model.zip is not a model bundle",
        ),
        (
            ("evaluate", "--model", model, "--truth", other, "--pictures", tmp_path / "other"),
            "knows the classes bar, square",
        ),
        (
            ("detect", "--model", model, tmp_path / "none", "--out", tmp_path / "o"),
            "none: there is no such file or folder",
        ),
        (
            ("detect", "--model", model, trained / "held", "--out", tmp_path / "o", "--minimum-score", "3"),
            "minimum score must lie between 0 and 1, not 3",
        ),
        (("serve", "--data", tmp_path, "--host", "0.0.0.0"), "set AVOCET_PASSWORD to serve other machines"),
    ]
    before = sorted((data / "projects" / "1" / "runs").iterdir())
    for arguments, expected in cases:
        done = answer(*arguments)
        assert done.returncode == 1 and expected in done.stderr, (arguments, done.stderr)
        assert done.stderr.strip().splitlines()[-1].startswith("avocet: ")
    # And once as a process of its own.
    done = avocet("train", "--project", "nobody", "--data", data, check=False)
    assert done.returncode == 1 and "Traceback" not in done.stderr and done.stderr.startswith("avocet: ")
    assert not (tmp_path / "d").exists() and not (tmp_path / "o").exists()
    sessions = open_database(DataFolder(data).database)
    with sessions() as session:
        assert not [run.name for run in list_runs(session, 1) if run.job.state == JobState.FAILED]
    assert sorted((data / "projects" / "1" / "runs").iterdir()) == before, "no run that could only fail"


@pytest.mark.slow
def test_skip_faulty_takes_the_rest(trained, tmp_path):
    faulty = json.loads((trained / "set" / "truth.json").read_text())
    faulty["annotations"][0]["bbox"] = [0, 0, 0, 0]
    (tmp_path / "faulty.json").write_text(json.dumps(faulty))
    done = avocet(
        "import",
        tmp_path / "faulty.json",
        "--pictures",
        trained / "set",
        "--project",
        "rest",
        "--data",
        tmp_path / "d",
        "--skip-faulty",
    )
    assert "has no area" in done.stderr and "16 pictures with 31 boxes" in done.stdout


def test_help_has_examples():
    for command in ("serve", "import", "train", "evaluate", "explain", "detect"):
        shown = CliRunner().invoke(commands, [command, "--help"], prog_name="avocet").output
        assert "Example:" in shown and f"avocet {command}" in shown
    everything = CliRunner().invoke(commands, ["--help"]).output
    assert "evaluate" in everything and "worker" not in everything
    for name, (_, said) in COMMANDS.items():
        command = commands.get_command(None, name)
        assert said == ("" if command.hidden else command.get_short_help_str(limit=100))


def test_missing_options_are_a_usage_error():
    done = CliRunner().invoke(commands, ["train"])
    assert done.exit_code == 2 and "Missing option" in done.output
