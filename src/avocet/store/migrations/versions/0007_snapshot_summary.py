"""Snapshots keep what each part holds, so that nobody reads the whole file for a few sums.

There is no way down: what is dropped would only have to be counted again.
"""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("snapshot", sa.Column("summary", sa.JSON(), nullable=True))
