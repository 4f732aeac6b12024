"""Schemas of machines."""

from pydantic import Field

from avocet.web.schemas.common import Schema


class ClusterOut(Schema):
    address: str | None = Field(description="Of the cluster that the server works with")
    hint: str = Field(description="What it takes where there is none")
