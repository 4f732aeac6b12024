"""Schemas of projects and their stages."""

from avocet.store.tables import Part
from avocet.web.schemas.common import Request, Schema


class StagesOut(Schema):
    pictures: int
    labelled: int
    boxes: int
    runs: int
    training: bool
    best_map50: float | None
    evaluations: int
    last_map50: float | None
    last_part: Part | None
    detections: int
    last_source: str | None


class ProjectOut(Schema):
    id: int
    name: str
    stages: StagesOut


class ProjectList(Schema):
    projects: list[ProjectOut]


class NewProject(Request):
    name: str
