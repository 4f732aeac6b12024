"""What Judge keeps: ensembles, models and truths from outside, looks at a measurement, chosen scores.

There is no way down: dropping a column would lose what it holds.
"""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "ensemble",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("project_id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("members", sa.JSON(), nullable=False),
        sa.Column("method", sa.String(), nullable=False),
        sa.Column("overlap_limit", sa.Double(), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.Column("binned_at", sa.DateTime(), nullable=True),
        sa.ForeignKeyConstraint(["project_id"], ["project.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    with op.batch_alter_table("ensemble", schema=None) as batch_op:
        batch_op.create_index(batch_op.f("ix_ensemble_project_id"), ["project_id"], unique=False)
    with op.batch_alter_table("run", schema=None) as batch_op:
        batch_op.add_column(sa.Column("minimum_scores", sa.JSON(), server_default="{}", nullable=False))
    ensemble = ("ensemble_id", "ensemble", ["ensemble_id"], ["id"])
    with op.batch_alter_table("evaluation", schema=None) as batch_op:
        batch_op.alter_column("run_id", existing_type=sa.Integer(), nullable=True)
        batch_op.alter_column("part", existing_type=sa.String(20), nullable=True)
        batch_op.add_column(sa.Column("ensemble_id", sa.Integer(), nullable=True))
        batch_op.add_column(sa.Column("snapshot_id", sa.Integer(), nullable=True))
        batch_op.add_column(sa.Column("name", sa.String(), server_default="", nullable=False))
        batch_op.add_column(sa.Column("settings", sa.JSON(), server_default="{}", nullable=False))
        batch_op.add_column(sa.Column("looks", sa.Integer(), server_default="0", nullable=False))
        batch_op.create_foreign_key(*_named("evaluation", ensemble), ondelete="CASCADE")
        batch_op.create_foreign_key("fk_evaluation_snapshot", "snapshot", ["snapshot_id"], ["id"])
    with op.batch_alter_table("detection", schema=None) as batch_op:
        batch_op.alter_column("run_id", existing_type=sa.Integer(), nullable=True)
        batch_op.add_column(sa.Column("ensemble_id", sa.Integer(), nullable=True))
        batch_op.add_column(sa.Column("minimum_scores", sa.JSON(), server_default="{}", nullable=False))
        batch_op.create_foreign_key(*_named("detection", ensemble), ondelete="CASCADE")
    # What was measured before has its run's name and snapshot.
    op.execute(
        "UPDATE evaluation SET name = (SELECT name FROM run WHERE run.id = evaluation.run_id), "
        "snapshot_id = (SELECT snapshot_id FROM run WHERE run.id = evaluation.run_id)"
    )


def _named(table: str, key: tuple[str, str, list[str], list[str]]) -> tuple[str, str, list[str], list[str]]:
    return (f"fk_{table}_{key[1]}", *key[1:])
