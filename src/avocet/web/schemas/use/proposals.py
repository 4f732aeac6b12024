"""Schemas of proposals."""

from pydantic import Field

from avocet.web.schemas.common import Request, Schema, Whole


class ProposeIn(Request):
    """Which model proposes; without a minimum score its own counts."""

    run_id: Whole | None = None
    ensemble_id: Whole | None = None
    minimum_score: float | None = Field(None, ge=0, le=1)
    class_map: dict[str, str] = Field(
        default_factory=dict,
        max_length=1000,
        description="What classes of the model that the project does not have are called here",
    )


class ProposalOut(Schema):
    id: int
    class_name: str
    score: float
    model: str = Field(description="Which model proposes it, as `run 3`")
    corners: tuple[float, float, float, float] = Field(description="x1, y1, x2, y2 in original pixels")


class ProposalList(Schema):
    proposals: list[ProposalOut]


class RefuseIn(Request):
    numbers: list[Whole] = Field(min_length=1, max_length=2000)
    refused: bool = True


class LeastSure(Schema):
    picture_id: int | None


class TimeOut(Schema):
    """Seconds; the range holds the true figure in 95 of 100 cases."""

    saved: float
    low: float
    high: float
    by_hand: float = Field(description="A box, or an object of a clip, takes where nothing is proposed")
    taken: float = Field(description="What was proposed took")


class LabourOut(Schema):
    """What became of proposals on the pictures that are labelled now."""

    pictures: int
    kept: int = Field(description="Boxes that are as they were proposed")
    corrected: int = Field(description="Boxes of what was proposed at another place, or of another class")
    by_hand: int = Field(description="Boxes that nothing was proposed for")
    refused: int = Field(description="Proposals that no box stands for")
    time: TimeOut | None = Field(None, description="What that saved; none where too few pictures tell")
    timed: int = Field(description="Pictures without proposals that tell how long a box takes by hand")


class ProposedOut(Schema):
    """What waits on pictures that are not labelled yet, and what was done so far."""

    pictures: int
    proposals: int
    unlabelled: int
    labour: LabourOut
