"""Clips can be labelled as such: objects that are followed through their frames."""

import sqlalchemy as sa
from alembic import op

revision = "0016"
down_revision = "0015"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "clip_track",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column(
            "clip_id", sa.Integer(), sa.ForeignKey("clip.id", ondelete="CASCADE"), nullable=False, index=True
        ),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("class_id", sa.Integer(), sa.ForeignKey("object_class.id"), nullable=False),
        sa.Column("revision", sa.Integer(), nullable=False),
        sa.Column("spans", sa.JSON(), nullable=False),
        sa.Column("sets", sa.JSON(), nullable=False),
        sa.Column("attributes", sa.JSON(), nullable=False),
        sa.Column("unsure", sa.JSON(), nullable=False),
        sa.Column("model", sa.String(), nullable=False, server_default=""),
        sa.Column("standing", sa.String(20), nullable=False, server_default="kept"),
        sa.UniqueConstraint("clip_id", "number"),
    )
    op.add_column("change", sa.Column("tracks", sa.JSON(), nullable=False, server_default="[]"))
