"""Addresses under which models answer other programs, their keys and their calls."""

import sqlalchemy as sa
from alembic import op

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "address",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column(
            "project_id", sa.Integer(), sa.ForeignKey("project.id", ondelete="CASCADE"), nullable=False
        ),
        sa.Column("name", sa.String(), nullable=False, unique=True),
        sa.Column("order", sa.JSON(), nullable=False),
        sa.Column("keep_share", sa.Float(), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.Column("binned_at", sa.DateTime()),
    )
    op.create_index("ix_address_project_id", "address", ["project_id"])
    op.create_table(
        "address_model",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column(
            "address_id", sa.Integer(), sa.ForeignKey("address.id", ondelete="CASCADE"), nullable=False
        ),
        sa.Column("run_id", sa.Integer(), sa.ForeignKey("run.id", ondelete="SET NULL")),
        sa.Column("ensemble_id", sa.Integer(), sa.ForeignKey("ensemble.id", ondelete="SET NULL")),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("since", sa.DateTime(), nullable=False),
    )
    op.create_index("ix_address_model_address_id", "address_model", ["address_id"])
    op.create_table(
        "address_key",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column(
            "address_id", sa.Integer(), sa.ForeignKey("address.id", ondelete="CASCADE"), nullable=False
        ),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("start", sa.String(), nullable=False),
        sa.Column("digest", sa.String(), nullable=False, unique=True),
        sa.Column("per_minute", sa.Integer(), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.Column("revoked_at", sa.DateTime()),
    )
    op.create_index("ix_address_key_address_id", "address_key", ["address_id"])
    op.create_table(
        "address_calls",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column(
            "address_id", sa.Integer(), sa.ForeignKey("address.id", ondelete="CASCADE"), nullable=False
        ),
        sa.Column("key_id", sa.Integer(), nullable=False),
        sa.Column("day", sa.String(), nullable=False),
        sa.Column("outcome", sa.String(), nullable=False),
        sa.Column("calls", sa.Integer(), nullable=False),
        sa.Column("pictures", sa.Integer(), nullable=False),
        sa.Column("latencies", sa.JSON(), nullable=False),
        sa.UniqueConstraint("address_id", "key_id", "day", "outcome"),
    )
    op.create_index("ix_address_calls_address_id", "address_calls", ["address_id"])
