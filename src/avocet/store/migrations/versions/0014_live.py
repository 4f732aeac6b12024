"""Live work: cameras and watched folders."""

import sqlalchemy as sa
from alembic import op

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "live",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column(
            "project_id", sa.Integer(), sa.ForeignKey("project.id", ondelete="CASCADE"), nullable=False
        ),
        sa.Column("run_id", sa.Integer(), sa.ForeignKey("run.id", ondelete="CASCADE")),
        sa.Column("ensemble_id", sa.Integer(), sa.ForeignKey("ensemble.id", ondelete="CASCADE")),
        sa.Column("job_id", sa.Integer(), sa.ForeignKey("job.id"), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("source", sa.String(), nullable=False),
        sa.Column("out", sa.String(), nullable=False),
        sa.Column("moves", sa.Boolean(), nullable=False),
        sa.Column("order", sa.JSON(), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.Column("binned_at", sa.DateTime()),
    )
    op.create_index("ix_live_project_id", "live", ["project_id"])
