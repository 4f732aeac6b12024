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


class WhiteIn(Request):
    white: float | None = Field(
        description="White in all pictures of more than 8 bits; null: as their files say, else what all of them fit into"
    )


class WhiteOut(Schema):
    pictures: int = Field(description="Of more than 8 bits")
    declared: int = Field(description="Of them, those whose files say what is white")
    whites: list[float] = Field(description="Which they are read with")
    of_set: float | None = Field(description="What all of those fit into whose files say nothing")
    chosen: float | None


class NewProject(Request):
    name: str
