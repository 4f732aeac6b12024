"""What Train keeps: notes, the bin, watch pictures and facts of runs, and studies.

There is no way down: dropping a column would lose what it holds.
"""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    with op.batch_alter_table("run", schema=None) as batch_op:
        batch_op.add_column(sa.Column("note", sa.String(), server_default="", nullable=False))
        batch_op.add_column(sa.Column("binned_at", sa.DateTime(), nullable=True))
        batch_op.add_column(sa.Column("held_out", sa.String(), server_default="", nullable=False))
        batch_op.add_column(sa.Column("watched", sa.JSON(), server_default="[]", nullable=False))
        batch_op.add_column(sa.Column("facts", sa.JSON(), server_default="{}", nullable=False))

    op.create_table(
        "study",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("project_id", sa.Integer(), nullable=False),
        sa.Column("snapshot_id", sa.Integer(), nullable=False),
        sa.Column("job_id", sa.Integer(), nullable=False),
        sa.Column("settings", sa.JSON(), nullable=False),
        sa.Column("plan", sa.JSON(), nullable=False),
        sa.Column("results", sa.JSON(), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.ForeignKeyConstraint(["job_id"], ["job.id"]),
        sa.ForeignKeyConstraint(["project_id"], ["project.id"], ondelete="CASCADE"),
        sa.ForeignKeyConstraint(["snapshot_id"], ["snapshot.id"]),
        sa.PrimaryKeyConstraint("id"),
    )
    with op.batch_alter_table("study", schema=None) as batch_op:
        batch_op.create_index(batch_op.f("ix_study_project_id"), ["project_id"], unique=False)
