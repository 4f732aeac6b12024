"""Schemas of projects and their stages."""

from avocet.web.schemas.common import Request, Schema
from avocet.work.project.stages import Stages


class ProjectOut(Schema):
    id: int
    name: str
    stages: Stages


class ProjectList(Schema):
    projects: list[ProjectOut]


class NewProject(Request):
    name: str
