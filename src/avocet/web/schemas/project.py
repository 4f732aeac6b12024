"""Schemas of projects and their stages."""

from pydantic import Field

from avocet.web.schemas.common import Request, Schema
from avocet.work.project.stages import Stages


class ProjectOut(Schema):
    id: int
    name: str
    stages: Stages


class MakingOut(Schema):
    title: str
    done: int
    total: int


class ProjectList(Schema):
    projects: list[ProjectOut]
    making: MakingOut | None = Field(None, description="A project that is being made, and how far it is")


class NewProject(Request):
    name: str
