"""Classes, attributes, a picture's boxes, and taking changes back."""

from typing import Any

from flask import Response
from flask_openapi3 import Tag
from sqlalchemy.orm import Session

from avocet.web.context import MOST_AT_ONCE, change_many, change_out, context, reply
from avocet.web.document import DescribedBlueprint
from avocet.web.routes.pictures import detail_out
from avocet.web.schemas import labels as schemas
from avocet.web.schemas.common import JobStarted, Problem, ProjectPath
from avocet.web.schemas.pictures import PictureDetail, PicturePath
from avocet.work.job_givens import AttributeToChange, ChangeToUndo, ClassToMerge, NamedChoice
from avocet.work.job_kinds import CHANGE_ATTRIBUTE, MERGE_CLASS, UNDO_CHANGE
from avocet.work.job_outcomes import ChangeMade, Undone
from avocet.work.labels import attribute_changes, class_merge
from avocet.work.labels import attributes as work_attributes
from avocet.work.labels import boxes as work_boxes
from avocet.work.labels import changes as work_changes
from avocet.work.labels import classes as work
from avocet.work.labels import undo as work_undo
from avocet.work.pictures.files import get_picture
from avocet.work.project.projects import get_project

labels = DescribedBlueprint("labels", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="labels")])


@labels.get("/projects/<int:project_id>/classes", responses={200: schemas.ClassList})
def list_classes(path: ProjectPath) -> Response:
    """Classes in the order of their number keys, retired ones last."""
    columns = context().labels.of(path.project_id)
    with context().reading() as session:
        return reply(_classes(session, path.project_id, work.counted(columns)))


@labels.post("/projects/<int:project_id>/classes", responses={201: schemas.ClassList})
def add_class(path: ProjectPath, body: schemas.NewClass) -> Response:
    """Add a class after the others, or restore a retired one of that name."""
    with context().sessions.begin() as session:
        change = work.add_one(session, path.project_id, body.name)
    return _changed(path.project_id, change.id, 201)


@labels.post("/projects/<int:project_id>/classes/pasted", responses={201: schemas.ClassList})
def add_classes(path: ProjectPath, body: schemas.PastedClasses) -> Response:
    """Add classes from a list, one name a line."""
    with context().sessions.begin() as session:
        _, change = work.add_classes(session, path.project_id, body.text)
    return _changed(path.project_id, change.id, 201)


@labels.patch("/projects/<int:project_id>/classes/<int:class_id>", responses={200: schemas.ClassList})
def change_class(path: schemas.ClassPath, body: schemas.ClassChange) -> Response:
    """Rename or recolour a class."""
    with context().sessions.begin() as session:
        change = work.change_class(session, path.project_id, path.class_id, body.name, body.colour)
    return _changed(path.project_id, change.id)


@labels.put("/projects/<int:project_id>/classes/order", responses={200: schemas.ClassList})
def reorder_classes(path: ProjectPath, body: schemas.ClassOrder) -> Response:
    """Put the classes into another order, and so onto other number keys."""
    with context().sessions.begin() as session:
        change = work.reorder_classes(session, path.project_id, body.ids)
    return _changed(path.project_id, change.id)


@labels.post(
    "/projects/<int:project_id>/classes/<int:class_id>/merge", responses={200: ChangeMade, 202: JobStarted}
)
def merge_class(path: schemas.ClassPath, body: schemas.ClassMerge) -> Response:
    """Give all boxes of a class to another one, and retire it; very many in the background."""
    with context().reading() as session:
        chosen, target = class_merge.to_merge(session, path.project_id, path.class_id, body.into_id)
        boxes = class_merge.boxes_of_class(session, chosen.id, MOST_AT_ONCE + 1)
    given = ClassToMerge(project_id=path.project_id, class_id=chosen.id, into_id=target.id)
    return change_many(path.project_id, MERGE_CLASS, f"Merge {chosen.name} into {target.name}", given, boxes)


@labels.delete("/projects/<int:project_id>/classes/<int:class_id>", responses={200: schemas.ClassList})
def retire_class(path: schemas.ClassPath) -> Response:
    """Take a class out of use; its boxes stay."""
    with context().sessions.begin() as session:
        change = work.retire_class(session, path.project_id, path.class_id)
    return _changed(path.project_id, change.id)


@labels.get("/projects/<int:project_id>/attributes", responses={200: schemas.AttributeList})
def list_attributes(path: ProjectPath) -> Response:
    """What can be said of a box beside its class."""
    with context().reading() as session:
        return reply(_attributes(session, path.project_id))


@labels.post("/projects/<int:project_id>/attributes", responses={201: schemas.AttributeList})
def add_attribute(path: ProjectPath, body: schemas.NewAttribute) -> Response:
    """Add an attribute of one class or of all."""
    with context().sessions.begin() as session:
        get_project(session, path.project_id)
        if body.class_id is not None:
            work.get_class(session, path.project_id, body.class_id)
        change = attribute_changes.add_as_change(
            session, path.project_id, body.name, body.kind, body.class_id, body.choices
        )
        return reply(_attributes(session, path.project_id, change.id), 201)


@labels.patch(
    "/projects/<int:project_id>/attributes/<int:attribute_id>",
    responses={200: ChangeMade, 202: JobStarted},
)
def change_attribute(path: schemas.AttributePath, body: schemas.AttributeChange) -> Response:
    """Rename an attribute or change its choices, along with the boxes that have it."""
    choices = None if body.choices is None else [NamedChoice(**each.model_dump()) for each in body.choices]
    return _change_attribute(path, "Change attribute", name=body.name, choices=choices)


@labels.delete(
    "/projects/<int:project_id>/attributes/<int:attribute_id>",
    responses={200: ChangeMade, 202: JobStarted},
)
def remove_attribute(path: schemas.AttributePath) -> Response:
    """Remove an attribute, also from the boxes that have it."""
    return _change_attribute(path, "Remove attribute", removed=True)


def _change_attribute(path: schemas.AttributePath, doing: str, **wanted: Any) -> Response:
    with context().reading() as session:
        found = attribute_changes.to_change(session, path.project_id, path.attribute_id)
        boxes = work_attributes.boxes_with(session, path.project_id, found.name)
    given = AttributeToChange(project_id=path.project_id, attribute_id=path.attribute_id, **wanted)
    return change_many(path.project_id, CHANGE_ATTRIBUTE, f"{doing} {found.name}", given, boxes)


@labels.get("/projects/<int:project_id>/changes", responses={200: schemas.ChangeList})
def list_changes(path: ProjectPath) -> Response:
    """Changes to many pictures or classes at once, newest first."""
    with context().reading() as session:
        found = work_changes.latest_changes(session, path.project_id)
        return reply(schemas.ChangeList(changes=[change_out(each) for each in found]))


@labels.post(
    "/projects/<int:project_id>/changes/<int:change_id>/undo", responses={200: Undone, 202: JobStarted}
)
def undo_change(path: schemas.ChangePath) -> Response:
    """Undo a change, as far as nobody has worked on since; of very many pictures in the background."""
    with context().reading() as session:
        title = work_undo.find_change(session, path.project_id, path.change_id).title
        pictures = work_undo.pictures_of(session, path.change_id, MOST_AT_ONCE + 1)
    given = ChangeToUndo(project_id=path.project_id, change_id=path.change_id)
    return change_many(path.project_id, UNDO_CHANGE, f"Undo: {title}", given, pictures)


@labels.put("/pictures/<int:picture_id>/labels", responses={200: PictureDetail, 409: Problem})
def save_labels(path: PicturePath, body: schemas.LabelsIn) -> Response:
    """Replace a picture's boxes. A stale revision gets 409 with what is there now."""
    with context().sessions.begin() as session:
        picture = get_picture(session, path.picture_id)
        boxes = [
            work_boxes.NewBox(
                box.class_id, box.corners, box.crowd, box.attributes, box.track, box.origin or work_boxes.HAND
            )
            for box in body.boxes
        ]
        return reply(
            detail_out(
                work_boxes.save_labels(session, picture, body.revision, boxes, body.state, worked=body.worked)
            )
        )


def _changed(project_id: int, change_id: int, status: int = 200) -> Response:
    """The classes after a change that is committed, and the change to undo it by."""
    counts = work.counted(context().labels.of(project_id))
    with context().reading() as session:
        return reply(_classes(session, project_id, counts, change_id), status)


def _classes(
    session: Session, project_id: int, counts: dict[int, int], change_id: int | None = None
) -> schemas.ClassList:
    return schemas.ClassList(
        classes=[
            schemas.ClassOut(
                id=each.id,
                name=each.name,
                colour=each.colour,
                position=each.position,
                retired=each.retired_at is not None,
                boxes=counts.get(each.id, 0),
            )
            for each in work.list_classes(session, project_id, retired=True)
        ],
        change_id=change_id,
    )


def _attributes(session: Session, project_id: int, change_id: int | None = None) -> schemas.AttributeList:
    return schemas.AttributeList(
        attributes=[
            schemas.AttributeOut(
                id=each.id,
                name=each.name,
                kind=each.kind,
                class_id=each.class_id,
                choices=each.choices,
                boxes=work_attributes.boxes_with(session, project_id, each.name),
            )
            for each in work_attributes.list_attributes(session, project_id)
        ],
        change_id=change_id,
    )
