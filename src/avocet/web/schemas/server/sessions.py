"""Schemas of who is signed in."""

from pydantic import Field

from avocet.web.schemas.common import Query, Schema


class SessionOut(Schema):
    signed_in: bool = Field(description="With a session that can be ended; false where no password is wanted")
    others: int = Field(description="Sessions of others, or of other browsers")


class EndQuery(Query):
    others: bool = Field(False, description="End all but one's own instead")
