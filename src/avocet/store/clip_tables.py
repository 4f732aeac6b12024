"""The tables of clips that are labelled as such."""

import enum
from typing import Any
from uuid import uuid4

from sqlalchemy import ForeignKey, UniqueConstraint
from sqlalchemy.orm import Mapped, Session, mapped_column

from avocet.store.tables import Base, Clip, text_enum


class Standing(enum.StrEnum):
    """What a person made of a track."""

    KEPT = "kept"
    PROPOSED = "proposed"
    REFUSED = "refused"


class ClipTrack(Base):
    """One object through the frames of a clip, from the boxes that were set on some of them.

    ``spans`` holds first and last frame of each stretch in which it is in sight, ``sets`` what was set on which
    frame and where from, ``attributes`` what holds from which frame on, ``unsure`` frames that a person should
    look at. The work on tracks knows their form.
    """

    __tablename__ = "clip_track"
    __table_args__ = (UniqueConstraint("clip_id", "number"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    clip_id: Mapped[int] = mapped_column(ForeignKey("clip.id", ondelete="CASCADE"), index=True)
    number: Mapped[int]
    uid: Mapped[str] = mapped_column(default=lambda: uuid4().hex, server_default="")
    """Tells it from every other object, also where a number is used again."""
    class_id: Mapped[int] = mapped_column(ForeignKey("object_class.id"))
    revision: Mapped[int]
    spans: Mapped[list[Any]]
    sets: Mapped[list[Any]]
    attributes: Mapped[list[Any]]
    unsure: Mapped[list[Any]]
    model: Mapped[str] = mapped_column(default="", server_default="")
    """Which run or ensemble proposed it, as ``run 3``."""
    standing: Mapped[Standing] = mapped_column(
        text_enum(Standing),
        default=Standing.KEPT,
        server_default=Standing.KEPT.value,
    )
    worked: Mapped[float] = mapped_column(default=0.0, server_default="0")
    """Seconds that people worked on it in the page."""


def delete_track(session: Session, track: ClipTrack) -> None:
    """Delete an object of a clip. Its number may be used again; its revision is not."""
    clip = session.get_one(Clip, track.clip_id)
    clip.gone_revision = max(clip.gone_revision, track.revision)
    session.delete(track)
