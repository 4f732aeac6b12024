"""``avocet import``."""

from dataclasses import dataclass
from pathlib import Path

import click

from avocet.cli.common import Bar, named_pairs, stop_at_faults
from avocet.cli.data import open_data
from avocet.cli.options import data_option
from avocet.core.errors import InputError
from avocet.core.labels.splitting import RATIOS
from avocet.formats.files import LabelFiles
from avocet.formats.kinds import FORMATS, read_labels, recognise
from avocet.formats.parts import read_parts
from avocet.formats.record import FindPicture, Record
from avocet.formats.table import FIELDS, Columns, Kind, look_at_table, with_unit
from avocet.readable import so_many
from avocet.store.database import reading
from avocet.store.folder import DataFolder
from avocet.store.tables import Attribute
from avocet.work.exchange.located import FolderPictures, import_located, locate, opened_labels
from avocet.work.exchange.project_labels import ProjectPictures, pair_pictures, unusable_names
from avocet.work.exchange.taking import take_over
from avocet.work.labels.attributes import list_attributes
from avocet.work.pictures.splits import labelled_by_part, split_pictures
from avocet.work.problems import NotFound
from avocet.work.project.projects import create_project, project_named

USUAL_SPLIT = ",".join(map(str, RATIOS))


@click.command("import")
@click.argument("labels", type=click.Path(path_type=Path))
@click.option(
    "--pictures",
    type=click.Path(path_type=Path),
    help="Folder with the pictures; by default the folder or archive that LABELS is.",
)
@click.option("--project", required=True, help="Project to add them to; made if there is none of that name.")
@data_option
@click.option(
    "--format",
    "form",
    type=click.Choice(list(FORMATS)),
    help="Format of the labels; told by itself otherwise.",
)
@click.option(
    "--column",
    "columns",
    multiple=True,
    metavar="WHAT=COLUMN",
    help="A column of a CSV file: picture, class, and x1, y1, x2, y2, or x, y, width, height, or box. "
    "Told by their names otherwise.",
)
@click.option(
    "--fractions/--pixels",
    default=None,
    help="Whether a CSV file has boxes in fractions of their pictures. Told by its first lines otherwise.",
)
@click.option(
    "--corners/--sizes",
    default=None,
    help="Whether boxes of a COCO file are corners, x1, y1, x2, y2, against the format.",
)
@click.option(
    "--map",
    "meanings",
    multiple=True,
    metavar="SAID=MEANT",
    help="What a class of the labels is called in the project; nothing behind the sign leaves its boxes out.",
)
@click.option("--replace", is_flag=True, help="Also replace the labels of pictures that have some.")
@click.option(
    "--split",
    default=USUAL_SPLIT,
    show_default=True,
    help="Ratio of training, validation and test.",
)
@click.option("--seed", default=0, show_default=True, type=int, help="Seed of the split.")
@click.option(
    "--skip-faulty", is_flag=True, help="Leave out entries that are wrong instead of refusing the file."
)
def import_(
    labels: Path,
    pictures: Path | None,
    project: str,
    data: Path,
    form: str | None,
    columns: tuple[str, ...],
    fractions: bool | None,
    corners: bool | None,
    meanings: tuple[str, ...],
    replace: bool,
    split: str,
    seed: int,
    skip_faulty: bool,
) -> None:
    """Take pictures and boxes into a project.

    LABELS is a COCO JSON, CSV or JSON Lines file, or a folder or archive of Pascal VOC XML or
    centre-text files. Pictures are copied, and all are split by ratio afterwards, unless the
    archive of a snapshot says each picture's part. Pictures that have labels already stay as they
    are unless --replace is given. Where there are no pictures beside the labels, the project's own
    pictures of the same names get them.

    \b
    Example:
      avocet import truth.json --pictures pictures --project belt --data ~/avocet
    """
    ratios = _ratios(split)
    targets = named_pairs(meanings, "--map", "SAID=MEANT")
    with opened_labels(labels, pictures) as (files, found):
        form = form or recognise(files).key
        if corners is not None and form != "coco":
            raise InputError("--corners and --sizes are for COCO files only")
        chosen = _columns(files, form, columns, fractions)
        wanted = _Wanted(project, data, form, chosen, corners, targets, replace, skip_faulty)
        if found is None:
            _label_what_is_there(files, wanted)
        else:
            _import_with_pictures(files, found, wanted, ratios, seed)


@dataclass(frozen=True)
class _Wanted:
    """What is asked for, wherever the pictures come from."""

    project: str
    data: Path
    form: str
    columns: Columns | None
    corners: bool | None
    targets: dict[str, str]
    replace: bool
    skip_faulty: bool


def _import_with_pictures(
    files: LabelFiles, pictures: FolderPictures, wanted: _Wanted, ratios: list[float], seed: int
) -> None:
    project, skip_faulty = wanted.project, wanted.skip_faulty
    record = _read(files, pictures.find, wanted)
    _check_targets(files, record.class_names, wanted.targets)
    located = locate(record, pictures, files.called, _attributes_there(wanted))
    _tell(located.notes)
    stop_at_faults(located.problems, skip_faulty)
    if not located.record.pictures:
        raise InputError(f"{files.called}: none of its pictures can be taken over")
    if unusable := unusable_names(located.record, ()):
        raise InputError(f"{files.called}: {unusable[0]}")
    named = read_parts(files)
    folder, sessions = open_data(wanted.data)
    with sessions.begin() as session:
        try:
            project_id = project_named(session, project).id
        except NotFound:
            project_id = create_project(session, project).id
    with Bar("Importing") as bar:
        counts = import_located(
            sessions, folder, project_id, located, bar, named, wanted.targets, wanted.replace
        )
    # An archive of a snapshot brings its split along.
    if not named:
        split_pictures(sessions, project_id, ratios, seed)
    with reading(sessions)() as session:
        parts = labelled_by_part(session, project_id)
    click.echo(
        f"{so_many(counts['pictures'], 'picture')} with {so_many(counts['boxes'], 'box', 'boxes')} "
        f"taken into {project!r}"
    )
    if counts["already_labelled"]:
        click.echo(f"{so_many(counts['already_labelled'], 'picture')} had labels already, left as they were")
    click.echo(
        f"Labelled: {parts['training']} training, {parts['validation']} validation, {parts['test']} test"
    )


def _read(files: LabelFiles, find: FindPicture, wanted: _Wanted) -> Record:
    _, record = read_labels(files, find, wanted.form, wanted.columns, wanted.corners)
    if record.asks:
        raise InputError(f"{record.asks} Say --corners or --sizes")
    return record


def _tell(notes: list[str]) -> None:
    for each in notes:
        click.echo(f"avocet: {each}", err=True)


def _attributes_there(wanted: _Wanted) -> list[Attribute]:
    """What the project's attributes hold, where there is such a project already."""
    if not DataFolder(wanted.data).database.is_file():
        return []
    _, sessions = open_data(wanted.data)
    with reading(sessions)() as session:
        try:
            return list_attributes(session, project_named(session, wanted.project).id)
        except NotFound:
            return []


def _label_what_is_there(files: LabelFiles, wanted: _Wanted) -> None:
    project = wanted.project
    _, sessions = open_data(wanted.data, must_exist=True)
    with reading(sessions)() as session:
        try:
            project_id = project_named(session, project).id
        except NotFound as error:
            raise NotFound(f"{error}. To make it, name the folder of its pictures with --pictures") from None
        here = ProjectPictures(session, project_id)
        record = _read(files, here.find, wanted)
        _check_targets(files, record.class_names, wanted.targets)
        matched = pair_pictures(here, record, files.called)
    _tell(matched.notes)
    missing = [f"{files.called}: the project has no picture {name}" for name in matched.missing]
    stop_at_faults(matched.problems + missing, wanted.skip_faulty)
    with Bar("Importing") as bar:
        taken = take_over(
            sessions, project_id, files, bar, wanted.form, wanted.columns, wanted.targets, wanted.replace,
            wanted.corners,
        )  # fmt: skip
    click.echo(
        f"{so_many(taken.pictures, 'picture')} of {project!r} got {so_many(taken.boxes, 'box', 'boxes')}"
    )
    if matched.labelled and not wanted.replace:
        click.echo(f"{so_many(len(matched.labelled), 'picture')} had labels already, left as they were")


def _check_targets(files: LabelFiles, class_names: list[str], targets: dict[str, str]) -> None:
    for name in targets:
        if name not in class_names:
            raise InputError(f"{files.called} has no class {name!r}; it has {', '.join(class_names)[:300]}")


def _columns(files: LabelFiles, form: str, given: tuple[str, ...], fractions: bool | None) -> Columns | None:
    """The columns of a CSV file as they were named, the rest as they are told; None for other formats."""
    if form != "csv":
        if given or fractions is not None:
            raise InputError("--column, --fractions and --pixels are for CSV files only")
        return None
    look = look_at_table(files)
    named = named_pairs(given, "--column", "WHAT=COLUMN")
    known = {"picture", "class"}.union(*FIELDS.values())
    for what in named:
        if what not in known:
            raise InputError(f"--column {what}=…: there is no {what!r}; there are {', '.join(sorted(known))}")
    guess = look.guess
    kind: Kind | None = next(
        (kind for kind, fields in FIELDS.items() if set(fields) & set(named)), guess.kind if guess else None
    )
    if kind is None:
        raise InputError(
            f"{files.called}: say with --column where the boxes are; it has {', '.join(look.header)[:300]}"
        )
    guessed = dict(zip(FIELDS[kind], guess.values, strict=True)) if guess and guess.kind == kind else {}
    chosen = (
        {"picture": guess.picture if guess else "", "class": guess.label if guess else ""} | guessed | named
    )
    for what in ("picture", *FIELDS[kind]):
        if not chosen.get(what):
            raise InputError(f"{files.called}: say with --column which one is {what}")
    columns = Columns(
        chosen["picture"], chosen["class"], kind, tuple(chosen[each] for each in FIELDS[kind]), fractions
    )
    if fractions is None:
        columns = with_unit(files, columns)
    if columns.fractions is None:
        raise InputError(
            f"{files.called}: some boxes look like pixels and some like fractions of their picture; "
            "say --pixels or --fractions"
        )
    return columns


def _ratios(text: str) -> list[float]:
    try:
        ratios = [float(part) for part in text.replace("/", ",").split(",")]
    except ValueError:
        ratios = []
    if len(ratios) != 3 or min(ratios) < 0 or not sum(ratios) > 0:
        raise InputError(f"--split takes three ratios such as {USUAL_SPLIT}, not {text!r}")
    return ratios
