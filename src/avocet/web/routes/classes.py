"""Classes, attributes, and taking changes back."""

from flask import Response
from flask_openapi3 import APIBlueprint, Tag
from sqlalchemy.orm import Session

from avocet.store.tables import Change
from avocet.web.context import context, moment, reply
from avocet.web.schemas import collect as schemas
from avocet.web.schemas import labels as label_schemas
from avocet.web.schemas.common import ProjectPath
from avocet.work import attributes as work_attributes
from avocet.work import changes as work_changes
from avocet.work import classes as work

classes = APIBlueprint("classes", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="classes")])


@classes.get("/projects/<int:project_id>/classes", responses={200: schemas.ClassList})
def list_classes(path: ProjectPath) -> Response:
    """Classes in the order of their number keys, retired ones last."""
    with context().reading() as session:
        return reply(_classes(session, path.project_id))


@classes.post("/projects/<int:project_id>/classes", responses={201: schemas.ClassList})
def add_class(path: ProjectPath, body: schemas.NewClass) -> Response:
    """Add a class after the others, or bring back a retired one of that name."""
    with context().sessions.begin() as session:
        change = work_changes.begin_change(session, path.project_id, f"Class {body.name.strip()} added")
        work.add_class(session, path.project_id, body.name)
        return reply(_classes(session, path.project_id, change), 201)


@classes.post("/projects/<int:project_id>/classes/pasted", responses={201: schemas.ClassList})
def add_classes(path: ProjectPath, body: schemas.PastedClasses) -> Response:
    """Add classes from a list, one name a line."""
    with context().sessions.begin() as session:
        _, change = work.add_classes(session, path.project_id, body.text)
        return reply(_classes(session, path.project_id, change), 201)


@classes.patch("/projects/<int:project_id>/classes/<int:class_id>", responses={200: schemas.ClassList})
def change_class(path: schemas.ClassPath, body: schemas.ClassChange) -> Response:
    """Rename or recolour a class."""
    with context().sessions.begin() as session:
        change = work.change_class(session, path.project_id, path.class_id, body.name, body.colour)
        return reply(_classes(session, path.project_id, change))


@classes.put("/projects/<int:project_id>/classes/order", responses={200: schemas.ClassList})
def reorder_classes(path: ProjectPath, body: schemas.ClassOrder) -> Response:
    """Put the classes into another order, and so onto other number keys."""
    with context().sessions.begin() as session:
        change = work.reorder_classes(session, path.project_id, body.ids)
        return reply(_classes(session, path.project_id, change))


@classes.post("/projects/<int:project_id>/classes/<int:class_id>/merge", responses={200: schemas.ClassList})
def merge_class(path: schemas.ClassPath, body: schemas.ClassMerge) -> Response:
    """Give all boxes of a class to another one, and retire it."""
    with context().sessions.begin() as session:
        change = work.merge_class(session, path.project_id, path.class_id, body.into_id)
        return reply(_classes(session, path.project_id, change))


@classes.delete("/projects/<int:project_id>/classes/<int:class_id>", responses={200: schemas.ClassList})
def retire_class(path: schemas.ClassPath) -> Response:
    """Take a class out of use; its boxes stay."""
    with context().sessions.begin() as session:
        change = work.retire_class(session, path.project_id, path.class_id)
        return reply(_classes(session, path.project_id, change))


@classes.get("/projects/<int:project_id>/attributes", responses={200: label_schemas.AttributeList})
def list_attributes(path: ProjectPath) -> Response:
    """What can be said of a box beside its class."""
    with context().reading() as session:
        return reply(_attributes(session, path.project_id))


@classes.post("/projects/<int:project_id>/attributes", responses={201: label_schemas.AttributeList})
def add_attribute(path: ProjectPath, body: label_schemas.NewAttribute) -> Response:
    """Add an attribute of one class or of all."""
    with context().sessions.begin() as session:
        if body.class_id is not None:
            work.get_class(session, path.project_id, body.class_id)
        work_attributes.add_attribute(
            session, path.project_id, body.name, body.kind, body.class_id, body.choices
        )
        return reply(_attributes(session, path.project_id), 201)


@classes.delete(
    "/projects/<int:project_id>/attributes/<int:attribute_id>", responses={200: label_schemas.AttributeList}
)
def remove_attribute(path: label_schemas.AttributePath) -> Response:
    """Remove an attribute that no box has."""
    with context().sessions.begin() as session:
        work_attributes.remove_attribute(session, path.project_id, path.attribute_id)
        return reply(_attributes(session, path.project_id))


@classes.get("/projects/<int:project_id>/changes", responses={200: label_schemas.ChangeList})
def list_changes(path: ProjectPath) -> Response:
    """Changes to many pictures or classes at once, newest first."""
    with context().reading() as session:
        found = work_changes.latest_changes(session, path.project_id)
        return reply(label_schemas.ChangeList(changes=[change_out(each) for each in found]))


@classes.post(
    "/projects/<int:project_id>/changes/<int:change_id>/undo", responses={200: label_schemas.UndoneOut}
)
def undo_change(path: label_schemas.ChangePath) -> Response:
    """Take a change back, as far as nobody has worked on since."""
    with context().sessions.begin() as session:
        undone = work_changes.undo_change(session, path.project_id, path.change_id)
        return reply(label_schemas.UndoneOut.model_validate(undone))


def change_out(change: Change) -> label_schemas.ChangeOut:
    """A change as the page sees it."""
    return label_schemas.ChangeOut(
        id=change.id, title=change.title, made_at=moment(change.made_at), undone=change.undone_at is not None
    )


def _classes(session: Session, project_id: int, change: Change | None = None) -> schemas.ClassList:
    counts = work.boxes_by_class(session, project_id)
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
        change_id=change.id if change else None,
    )


def _attributes(session: Session, project_id: int) -> label_schemas.AttributeList:
    return label_schemas.AttributeList(
        attributes=[
            label_schemas.AttributeOut(
                id=each.id,
                name=each.name,
                kind=each.kind,
                class_id=each.class_id,
                choices=each.choices,
                boxes=work_attributes.boxes_with(session, project_id, each.name),
            )
            for each in work_attributes.list_attributes(session, project_id)
        ]
    )
