"""Schemas that several subjects share."""

from functools import cache
from typing import Annotated, Any

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, create_model

from avocet.store.tables import JobState
from avocet.work.job_kinds import KINDS


def _fits_database(number: int) -> int:
    if not -(2**63) <= number < 2**63:
        raise ValueError("a whole number has at most 63 bits here")
    return number


Whole = Annotated[int, AfterValidator(_fits_database)]
"""A whole number in a request: one that the database can hold."""


class Schema(BaseModel):
    """Base of all responses: filled from records as well as from dicts."""

    model_config = ConfigDict(from_attributes=True)


class Request(BaseModel):
    """Base of all requests: unknown fields are refused rather than silently dropped."""

    model_config = ConfigDict(extra="forbid")


class Query(BaseModel):
    """Base of what is asked for behind an address' question mark."""

    @classmethod
    def model_json_schema(cls, *given: Any, **wanted: Any) -> dict[str, Any]:
        """As pydantic makes it; the plain one once only.

        The framework asks for it with every request, and making it takes longer than most answers.
        """
        return super().model_json_schema(*given, **wanted) if given or wanted else _plain_schema(cls)


@cache
def _plain_schema(query: type[Query]) -> dict[str, Any]:
    return super(Query, query).model_json_schema()


class BinIn(Request):
    """To the bin, or out of it."""

    binned: bool


class BinQuery(Query):
    binned: bool = Field(False, description="Those in the bin instead")


class ProjectPath(BaseModel):
    project_id: Whole


class Problem(Schema):
    """An RFC 9457 problem document."""

    type: str = "about:blank"
    title: str
    status: int
    detail: str
    current: dict[str, Any] | None = Field(None, description="For a conflict: how it stands now")


_fields: dict[str, Any] = {kind.key: (kind.outcome | None, None) for kind in KINDS.values()}
JobOutcomes: Any = create_model("JobOutcomes", __base__=Schema, **_fields)
"""What a job came to, under its kind; empty while it is not done."""


class JobOut(Schema):
    """A piece of long work."""

    id: int
    project_id: int
    kind: str = Field(json_schema_extra={"enum": list(KINDS)})
    title: str
    state: str = Field(json_schema_extra={"enum": [each.value for each in JobState]})
    done: int
    total: int
    message: str
    seconds_left: float | None
    stop_requested: bool
    resumable: bool = Field(description="It was broken off and can go on where it was")
    short: bool = Field(description="A look of a second or two, shown by the page that asked")
    outcome: JobOutcomes


class JobList(Schema):
    jobs: list[JobOut]


class JobStarted(Schema):
    job: JobOut


class Selection(Request):
    ids: list[Whole] = Field(max_length=100_000)


class JobPath(BaseModel):
    job_id: Whole
