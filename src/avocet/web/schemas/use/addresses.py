"""Schemas of addresses."""

from typing import Any

from pydantic import BaseModel, Field

from avocet.media.deep import LARGEST_WHITE
from avocet.web.schemas.common import Request, Schema, Whole
from avocet.work.addresses.addresses import PER_MINUTE


class AnsweringModel(Request):
    run_id: Whole | None = None
    ensemble_id: Whole | None = None


class AddressIn(AnsweringModel):
    name: str = Field(max_length=60, description="Lower-case letters, digits and hyphens")


class AddressPatch(Request):
    """What counts under an address; without a minimum score, the model's own."""

    minimum_score: float | None = Field(None, ge=0, le=1)
    overlap_limit: float = Field(0.5, ge=0, le=1)
    only: list[str] = Field(default=[], max_length=1000)
    white: float | None = Field(
        None, gt=0, le=LARGEST_WHITE, description="White in all pictures of more than 8 bits"
    )
    keep_share: float = Field(0, ge=0, le=1, description="Share of the pictures kept for labelling")


class AddressModelOut(Schema):
    id: int
    name: str
    run_id: int | None
    ensemble_id: int | None
    since: str


class AddressKeyOut(Schema):
    id: int
    name: str
    start: str
    per_minute: int
    created_at: str
    revoked_at: str | None


class AddressOut(Schema):
    id: int
    name: str
    order: dict[str, Any]
    keep_share: float
    kept: int
    created_at: str
    models: list[AddressModelOut]
    keys: list[AddressKeyOut]
    calls_today: int


class AddressList(Schema):
    addresses: list[AddressOut]


class KeyIn(Request):
    name: str = Field(max_length=60)
    per_minute: int = Field(PER_MINUTE, ge=1, le=1_000_000)


class KeyMade(Schema):
    """The key itself is told this once."""

    record: AddressKeyOut
    key: str


class RevokedIn(Request):
    revoked: bool = True


class DayOfCalls(Schema):
    """Latencies in milliseconds, of the calls that were answered."""

    day: str
    outcomes: dict[str, int]
    pictures: int
    by_key: list[dict[str, int]]
    median: float | None
    p95: float | None
    p99: float | None


class CallsOut(Schema):
    days: list[DayOfCalls]


class KeptOut(Schema):
    name: str
    file: str
    doubt: float
    boxes: int


class KeptList(Schema):
    pictures: list[KeptOut]


class KeptChosen(Request):
    files: list[str] = Field(min_length=1, max_length=500)


class AddressPath(BaseModel):
    address_id: Whole


class BackPath(AddressPath):
    model_id: Whole


class KeyPath(AddressPath):
    key_id: Whole
