"""Annotation files that are broken or hostile: a clear message each, and the rest is read."""

import json
from dataclasses import replace

import pytest

from avocet.core.errors import InputError
from avocet.formats.files import LabelFiles
from avocet.formats.kinds import FORMATS, recognise
from avocet.formats.record import FoundPicture
from avocet.formats.table import look_at_table, read_table

PICTURE = FoundPicture("belt.jpg", 100, 50)


def read(key, **contents):
    named = {name.replace("__", "."): content for name, content in contents.items()}
    files = LabelFiles({name: lambda name=name: named[name] for name in named}, "the set")
    return FORMATS[key].read(
        files, lambda name: PICTURE if name.removesuffix(".jpg").endswith("belt") else None
    )


def voc(objects="", name="belt.jpg"):
    size = "<size><width>100</width><height>50</height></size>"
    return f"<annotation><filename>{name}</filename>{size}{objects}</annotation>".encode()


def voc_box(x1, y1, x2, y2):
    corners = f"<xmin>{x1}</xmin><ymin>{y1}</ymin><xmax>{x2}</xmax><ymax>{y2}</ymax>"
    return f"<object><name>roll</name><bndbox>{corners}</bndbox></object>"


def test_one_based_inclusive_corners():
    record = read("voc", belt__xml=voc(voc_box(1, 1, 100, 50)))
    assert record.pictures[0].boxes[0].corners == (0, 0, 100, 50)


@pytest.mark.parametrize(
    ("content", "said"),
    [
        (b"<annotation><filename>", "belt.xml is not XML"),
        (b"", "belt.xml is not XML"),
        (b"<html></html>", "its top is <html>"),
        (b'<!DOCTYPE a [<!ENTITY b "c"><!ENTITY d "&b;&b;">]><annotation>&d;</annotation>', "entities"),
        (b'<?xml version="1.0" encoding="klingon"?><annotation/>', "belt.xml is not XML"),
        (voc(voc_box("nan", 1, 5, 5)), "is not made of finite numbers"),
        (voc(voc_box("a", 1, 5, 5)), "not four numbers"),
        (voc(voc_box(9, 1, 5, 5)), "has no area"),
        (voc(voc_box(200, 1, 300, 5)), "lies outside its picture of 100×50"),
        (voc("<object><bndbox/></object>"), "has no name"),
    ],
)
def test_broken_voc(content, said):
    record = read("voc", belt__xml=content, good__xml=voc(voc_box(1, 1, 9, 9), "good.jpg"))
    assert len(record.faults) == 1 and said in record.faults[0] and "belt.xml" in record.faults[0]
    assert record.pictures[-1].boxes[0].corners == (0, 0, 9, 9)


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ("0 0.5 0.5 0.2", "has 4 values, not five"),
        ("0 0.5 0.5 0.2 0.2 7", "has 7 in its sixth place, where a score from 0 to 1 may stand"),
        ("2 0.5 0.5 0.2 0.2", "class 2 is not one of the 2"),
        ("-1 0.5 0.5 0.2 0.2", "class -1 is not"),
        ("0.5 0.5 0.5 0.2 0.2", "class 0.5 is not"),
        ("0 nan 0.5 0.2 0.2", "not made of finite numbers"),
        ("0 0.5 0.5 -0.2 0.2", "negative size"),
        ("0 50 50 20 20", "not in fractions"),
        ("0 0.5 0.5 0.2 x", "is not made of numbers"),
        ("0 1.5 0.5 0.2 0.2", "lies outside its picture"),
        ("0 0.5 0.5 0 0.2", "has no area"),
    ],
)
def test_broken_centre_text(line, said):
    text = f"1 0.5 0.5 0.5 0.5\n{line}\n".encode()
    record = read("centre-text", names__txt=b"roll\nloaf\n", belt__txt=text)
    assert len(record.faults) == 1 and "belt.txt, line 2" in record.faults[0] and said in record.faults[0]
    assert record.pictures[0].boxes[0].corners == (25, 12.5, 75, 37.5)


def test_names_of_classes():
    with pytest.raises(InputError, match="no text file with class names"):
        read("centre-text", belt__txt=b"0 0.5 0.5 0.5 0.5")
    with pytest.raises(InputError, match=r"a\.txt and b\.txt list different classes"):
        read("centre-text", a__txt=b"roll", b__txt=b"loaf", belt__txt=b"0 0.5 0.5 0.5 0.5")
    with pytest.raises(InputError, match=r"names\.txt, line 3: the class 'roll' is there twice"):
        read("centre-text", names__txt=b"roll\nloaf\nroll\n")
    with pytest.raises(InputError, match=r"names\.txt is not text in UTF-8: byte 0xF6 in line 2"):
        read("centre-text", names__txt=b"roll\nbr\xf6tchen\n")
    record = read("centre-text", names__txt="roll\nbrötchen\n".encode("utf-16"), belt__txt=b"1 .5 .5 .5 .5\n")
    assert record.class_names == ["roll", "brötchen"] and record.pictures[0].boxes[0].label == 1
    assert read("centre-text", names__txt=b"7\n8\n", belt__txt=b"1 .5 .5 .5 .5").class_names == ["7", "8"]


BELT = b"# cx cy w h\n1 .5 .5 .5 .5\n"


@pytest.mark.parametrize(
    "lists",
    [
        {"names.txt": b"roll\nloaf\n", "readme.txt": b"made in May\n"},
        {"day/classes.txt": b"roll\nloaf\n", "night/classes.txt": b"roll\nloaf\n\n"},
        {"classes.txt": b"# of the belt\nroll\nloaf\n"},
        {"belt.names": b"roll\nloaf\n", "readme.txt": b"made in May\n"},
        {"belt.yaml": b"path: ../belt\nnames:\n  - roll\n  - loaf\n"},
        {"belt.yml": b"names: {1: loaf, 0: roll}\n", "other.yaml": b"side: 3\n"},
        {"kinds.txt": b"roll\nloaf\n"},
    ],
)
def test_lists_of_classes_as_people_have_them(lists):
    files = LabelFiles(
        {name: lambda name=name: (lists | {"belt.txt": BELT})[name] for name in [*lists, "belt.txt"]},
        "the set",
    )
    record = FORMATS["centre-text"].read(files, lambda stem: PICTURE if stem == "belt" else None)
    assert (record.class_names, record.faults) == (["roll", "loaf"], [])
    assert [(box.label, box.corners) for box in record.pictures[0].boxes] == [(1, (25, 12.5, 75, 37.5))]


@pytest.mark.slow
@pytest.mark.parametrize(
    ("content", "said"),
    [
        (b"names: [roll, roll]", "class 1: the class 'roll' is there twice"),
        (b"names: {1: roll}", "not numbered from 0 on"),
        (b"names: 7", "neither a list nor numbered"),
        (b"names: [[roll]]", "neither a list nor numbered"),
        (b"names:\n - [roll", "belt.yaml, line 2 is not YAML: expected ',' or ']'"),
        (b"names: !!python/object:os.system [x, x]", "the class 'x' is there twice"),
        (b"[" * 20_000, "is not YAML"),
        (b"a: &a [x,x]\nb: &b [*a,*a]\nnames: [*b]", "is not YAML: it uses an alias"),
        (b"a: &a {x: y}\nnames: {<<: [*a, *a]}", "is not YAML: it uses an alias"),
        (b"names:\n" + b"- x\n" * 400_000, "a list of classes has at most"),
        (b"other: 1", "no text file with class names"),
    ],
)
def test_broken_lists_in_yaml(content, said):
    with pytest.raises(InputError, match=said):
        read("centre-text", belt__yaml=content, belt__txt=BELT)


def test_names_in_yaml_are_read_as_they_are_written():
    record = read("centre-text", belt__yaml=b"names: [no, 007, 2026-11-26, 1.50, ~]", belt__txt=BELT)
    assert record.class_names == ["no", "007", "2026-11-26", "1.50", "~"]


def test_a_text_that_is_called_like_a_picture_was_meant_for_it():
    record = read("centre-text", names__txt=b"roll\n", belt__txt=b"roll .5 .5 .5 .5\n", about__txt=b"May\n")
    assert record.faults == ["belt.txt: its lines do not begin with the number of a class"]


@pytest.mark.parametrize("word", ["1", "true", "True", "TRUE"])
def test_flags_of_voc_however_they_are_written(word):
    box = voc_box(1, 1, 9, 9).replace("</object>", f"<difficult>{word}</difficult></object>")
    assert read("voc", a__xml=voc(box)).pictures[0].boxes[0].attributes == {"ignore": True}


def table(*rows, header="frame,class,x1,y1,x2,y2"):
    return "\n".join([header, *rows]).encode()


def test_a_table_in_fractions_of_its_pictures():
    text = table("belt.jpg,roll,0.1,0.2,0.5,1.02", "belt.jpg,roll,0,0,1,1")
    record = read("csv", labels__csv=text)
    # The size is the picture's own; what reaches over the edge is cut.
    assert [box.corners for box in record.pictures[0].boxes] == [(10, 10, 50, 50), (0, 0, 100, 50)]
    sized = table("a.jpg,200,100,roll,.1,.2,.5,.5", header="image,image_width,image_height,label,x,y,w,h")
    assert read("csv", labels__csv=sized).pictures[0].boxes[0].corners == (20, 20, 120, 70)
    unknown = read("csv", labels__csv=table("a.jpg,roll,0.1,0.2,0.5,1"))
    assert unknown.faults == [
        "labels.csv, line 2: the size of a.jpg is not known, nor is there such a picture"
    ]


def test_a_table_that_may_be_either_is_asked_about():
    text = table("belt.jpg,roll,0.1,0.2,0.5,1", "belt.jpg,roll,10,20,30,40")
    with pytest.raises(
        InputError, match="some boxes look like fractions of their picture and some like pixels"
    ):
        read("csv", labels__csv=text)
    files = LabelFiles({"labels.csv": lambda: text}, "the set")
    look = look_at_table(files)
    assert look.guess.fractions is None and look.guess.picture == "frame"
    told = {
        unit: read_table(files, lambda _: PICTURE, replace(look.guess, fractions=unit))
        for unit in (True, False)
    }
    assert [box.corners for box in told[False].pictures[0].boxes] == [(0.1, 0.2, 0.5, 1), (10, 20, 30, 40)]
    assert (
        "is not in fractions of the picture" in told[True].faults[0]
        and len(told[True].pictures[0].boxes) == 1
    )


def test_centre_text_needs_its_picture():
    record = read("centre-text", names__txt=b"roll\n", other__txt=b"0 .5 .5 .5 .5\n")
    assert record.faults == ["other.txt: there is no picture called other"] and not record.pictures


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ('{"picture": "a.jpg"', "line 2 is not JSON"),
        ("[]", "is not an object"),
        ('{"boxes": []}', 'has no "picture"'),
        ('{"picture": "belt.jpg"}', "has a line already"),
        ('{"picture": "a.jpg", "boxes": 3}', "is not a list"),
        ('{"picture": "a.jpg", "boxes": [7]}', "box 1 of a.jpg is not an object"),
        ('{"picture": "a.jpg", "boxes": [{"corners": [1,2,3,4]}]}', "has no class"),
        ('{"picture": "a.jpg", "boxes": [{"class": "roll", "corners": [1,2,3]}]}', "not four numbers"),
        ('{"picture": "a.jpg", "boxes": [{"class": "roll", "corners": [1,2,3,NaN]}]}', "finite"),
        ('{"picture": "a.jpg", "boxes": [{"class": "roll", "corners": [5,2,3,4]}]}', "no area"),
        ('{"picture": "a.jpg", "boxes": [{"class": "r", "corners": [1,2,3,4], "track": "x"}]}', "track"),
        (
            '{"picture": "a.jpg", "boxes": [{"class": "r", "corners": [1,2,3,4], "attributes": 1}]}',
            "attributes",
        ),
        ("[" * 5000, "line 2 is not JSON"),
    ],
)
def test_broken_json_lines(line, said):
    first = '{"picture": "belt.jpg", "boxes": [{"class": "loaf", "corners": [1, 2, 3, 4]}]}'
    record = read("json-lines", labels__jsonl=f"{first}\n{line}\n".encode())
    assert len(record.faults) == 1 and said in record.faults[0] and "labels.jsonl, line 2" in record.faults[0]
    assert record.pictures[0].boxes[0].corners == (1, 2, 3, 4)


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ("belt.jpg,roll,1,2,3", "has 5 values, not 6"),
        (",roll,1,2,3,4", "names no picture"),
        ("belt.jpg,,1,2,3,4", "has no class"),
        ("belt.jpg,roll,1,2,inf,4", "finite"),
        ("belt.jpg,roll,1,2,x,4", "not four numbers"),
        ("belt.jpg,roll,5,2,3,4", "has no area"),
    ],
)
def test_broken_csv(line, said):
    text = f"picture,class,x1,y1,x2,y2\nbelt.jpg,roll,1,2,3,4\n{line}\n".encode()
    record = read("csv", labels__csv=text)
    assert len(record.faults) == 1 and "labels.csv, line 3" in record.faults[0] and said in record.faults[0]
    assert len(record.pictures[0].boxes) == 1


def test_tables_that_cannot_be_read():
    with pytest.raises(InputError, match="do not say where picture and box are"):
        read("csv", labels__csv=b"a,b\n1,2\n")
    with pytest.raises(InputError, match="has no header"):
        read("csv", labels__csv=b"")
    with pytest.raises(InputError, match="field larger"):
        read("csv", labels__csv=b'picture,bbox\na,"' + b"x" * 200_000 + b'"\n')


def test_formats_are_told_by_their_files():
    named = {"a.xml": b"", "b.xml": b"", "c.txt": b"", ".hidden.json": b"", "still.jpg": b""}
    files = LabelFiles({name: lambda: b"" for name in named}, "set.zip")
    assert files.names == ["a.xml", "b.xml", "c.txt"] and recognise(files).key == "voc"
    with pytest.raises(InputError, match="holds no annotation file that is known: COCO JSON"):
        recognise(LabelFiles({"readme.md": lambda: b""}, "readme.md"))


def test_problems_name_their_line():
    boxes = voc_box(1, 1, 9, 9) + "\n" + voc_box(9, 1, 5, 5)
    assert read("voc", belt__xml=voc(boxes)).faults[0].startswith("belt.xml, line 2: object 2 (roll)")
    annotations = [{"id": n, "image_id": 1, "category_id": 1, "bbox": [1, 1, n - 3, 5]} for n in range(1, 6)]
    document = {
        "info": {"annotations": ["a, b: [", {"deep": [1, 2]}]},
        "images": [{"id": 1, "file_name": "belt.jpg"}],
        "annotations": annotations,
        "categories": [{"id": 1, "name": "roll"}],
    }
    text = json.dumps(document, indent=1)
    faults = read("coco", truth__json=text.encode()).faults
    lines = text.splitlines()
    assert len(faults) == 3
    for number, fault in enumerate(faults, start=1):
        line = int(fault.split("line ")[1].split(":")[0])
        assert lines[line] == f'   "id": {number},', "an object begins a line before its first key"
    flat = read("coco", truth__json=json.dumps(document).encode("utf-16")).faults
    assert all("truth.json, line 1: annotation" in fault for fault in flat)
