"""Measurements can be put into the bin.

There is no way down: dropping the column would bring them all back.
"""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("evaluation", sa.Column("binned_at", sa.DateTime(), nullable=True))
