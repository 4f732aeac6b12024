"""A run knows the minimum score that its own validation found best."""

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("run", sa.Column("minimum_score", sa.Float(), nullable=True))
