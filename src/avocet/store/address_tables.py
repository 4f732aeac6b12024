"""The tables of what answers all the time: addresses for other programs, and live work."""

import datetime as dt
from typing import Any

from sqlalchemy import ForeignKey, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from avocet.store.tables import Base, Ensemble, Job, Run, now


class Address(Base):
    """A name under which a model answers other programs over HTTP."""

    __tablename__ = "address"

    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), index=True)
    name: Mapped[str] = mapped_column(unique=True)
    order: Mapped[dict[str, Any]] = mapped_column(default=dict)
    """What counts: minimum score (the model's own where there is none), overlap limit, classes."""
    keep_share: Mapped[float] = mapped_column(default=0.0)
    """Share of the pictures that are kept for labelling, those that the model was least sure of."""
    created_at: Mapped[dt.datetime] = mapped_column(default=now)
    binned_at: Mapped[dt.datetime | None]

    models: Mapped[list["AddressModel"]] = relationship(
        order_by="AddressModel.id", cascade="all, delete-orphan"
    )
    keys: Mapped[list["AddressKey"]] = relationship(order_by="AddressKey.id", cascade="all, delete-orphan")

    @property
    def answering(self) -> "AddressModel":
        """The model that answers now."""
        return self.models[-1]


class AddressModel(Base):
    """Which model answered under an address, from a moment on."""

    __tablename__ = "address_model"

    id: Mapped[int] = mapped_column(primary_key=True)
    address_id: Mapped[int] = mapped_column(ForeignKey("address.id", ondelete="CASCADE"), index=True)
    run_id: Mapped[int | None] = mapped_column(ForeignKey("run.id", ondelete="SET NULL"))
    ensemble_id: Mapped[int | None] = mapped_column(ForeignKey("ensemble.id", ondelete="SET NULL"))
    name: Mapped[str]
    since: Mapped[dt.datetime] = mapped_column(default=now)

    run: Mapped[Run | None] = relationship()
    ensemble: Mapped[Ensemble | None] = relationship()


class AddressKey(Base):
    """A key with which a program may call an address; only its digest is kept."""

    __tablename__ = "address_key"

    id: Mapped[int] = mapped_column(primary_key=True)
    address_id: Mapped[int] = mapped_column(ForeignKey("address.id", ondelete="CASCADE"), index=True)
    name: Mapped[str]
    start: Mapped[str]
    """The first letters, by which a person tells it from others."""
    digest: Mapped[str] = mapped_column(unique=True)
    per_minute: Mapped[int]
    created_at: Mapped[dt.datetime] = mapped_column(default=now)
    revoked_at: Mapped[dt.datetime | None]


class AddressCalls(Base):
    """Calls of an address by day, key and outcome."""

    __tablename__ = "address_calls"
    __table_args__ = (UniqueConstraint("address_id", "key_id", "day", "outcome"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    address_id: Mapped[int] = mapped_column(ForeignKey("address.id", ondelete="CASCADE"), index=True)
    key_id: Mapped[int] = mapped_column(default=0)
    """0 where no key of the address came along."""
    day: Mapped[str]
    outcome: Mapped[str]
    calls: Mapped[int] = mapped_column(default=0)
    pictures: Mapped[int] = mapped_column(default=0)
    latencies: Mapped[list[Any]] = mapped_column(default=list)
    """How many calls took how long, by the bins of `avocet.work.addresses.calls`."""


class Live(Base):
    """A model on a camera, or on what appears in a folder."""

    __tablename__ = "live"

    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), index=True)
    run_id: Mapped[int | None] = mapped_column(ForeignKey("run.id", ondelete="CASCADE"))
    ensemble_id: Mapped[int | None] = mapped_column(ForeignKey("ensemble.id", ondelete="CASCADE"))
    job_id: Mapped[int] = mapped_column(ForeignKey("job.id"))
    name: Mapped[str]
    kind: Mapped[str]
    """``camera`` or ``folder``."""
    source: Mapped[str]
    """The camera's address, or the folder that is watched."""
    out: Mapped[str] = mapped_column(default="")
    """Where results of a folder go."""
    moves: Mapped[bool] = mapped_column(default=False)
    """Pictures of a folder are moved into a folder ``done`` beside their results."""
    order: Mapped[dict[str, Any]] = mapped_column(default=dict)
    created_at: Mapped[dt.datetime] = mapped_column(default=now)
    binned_at: Mapped[dt.datetime | None]

    run: Mapped[Run | None] = relationship()
    ensemble: Mapped[Ensemble | None] = relationship()
    job: Mapped[Job] = relationship()
