"""The tables of the audit: what a person found right, and what boxes look like."""

import datetime as dt

from sqlalchemy import ForeignKey
from sqlalchemy.orm import Mapped, mapped_column

from avocet.store.tables import Base, now


class FineAsItIs(Base):
    """Something that looked wrong and that a person found right."""

    __tablename__ = "fine_as_it_is"

    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    finding: Mapped[str] = mapped_column(primary_key=True)
    marked_at: Mapped[dt.datetime] = mapped_column(default=now)


class CropLook(Base):
    """What a box's content looks like, kept under the content hash of its picture and its corners."""

    __tablename__ = "crop_look"

    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    crop: Mapped[str] = mapped_column(primary_key=True)
    brightness: Mapped[float]
    features: Mapped[bytes]
