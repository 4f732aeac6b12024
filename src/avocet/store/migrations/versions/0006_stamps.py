"""Stamps: what changed since is found without reading everything.

A project's stamp rises whenever a picture of it comes, goes, or changes its labels, state, part or
place in the bin; the picture carries the stamp of its last change. Triggers see to it, whoever
writes. There is no way down: nothing is lost by keeping them.
"""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None

RAISE = "UPDATE project SET stamp = stamp + 1 WHERE id = {row}.project_id;"
MARK = "UPDATE picture SET stamp = (SELECT stamp FROM project WHERE id = NEW.project_id) WHERE id = NEW.id;"


def upgrade() -> None:
    op.add_column("project", sa.Column("stamp", sa.Integer(), server_default="0", nullable=False))
    op.add_column("picture", sa.Column("stamp", sa.Integer(), server_default="0", nullable=False))
    op.create_index("ix_picture_stamp", "picture", ["project_id", "stamp"])
    raised, dropped = RAISE.format(row="NEW"), RAISE.format(row="OLD")
    op.execute(f"CREATE TRIGGER picture_came AFTER INSERT ON picture BEGIN {raised} {MARK} END")
    op.execute(
        "CREATE TRIGGER picture_changed AFTER UPDATE OF revision, state, part, binned_at ON picture "
        f"BEGIN {raised} {MARK} END"
    )
    op.execute(f"CREATE TRIGGER picture_went AFTER DELETE ON picture BEGIN {dropped} END")
