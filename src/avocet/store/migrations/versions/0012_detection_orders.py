"""A detection run keeps its whole order and what a person counts its objects by; boxes that models propose."""

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None


def upgrade() -> None:
    for name in ("order", "counting"):
        op.add_column("detection", sa.Column(name, sa.JSON(), nullable=False, server_default="{}"))
    op.create_table(
        "proposal",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column(
            "picture_id", sa.Integer(), sa.ForeignKey("picture.id", ondelete="CASCADE"), nullable=False
        ),
        sa.Column("detection_id", sa.Integer(), sa.ForeignKey("detection.id", ondelete="SET NULL")),
        sa.Column("class_name", sa.String(), nullable=False),
        *(sa.Column(name, sa.Float(), nullable=False) for name in ("x1", "y1", "x2", "y2", "score")),
    )
    op.create_index("ix_proposal_picture_id", "proposal", ["picture_id"])
