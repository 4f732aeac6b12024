"""The highest revision that a deleted object of a clip had."""

import sqlalchemy as sa
from alembic import op

revision = "0021"
down_revision = "0020"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("clip", sa.Column("gone_revision", sa.Integer(), nullable=False, server_default="0"))
