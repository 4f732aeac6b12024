"""A change keeps how the attributes were before and after it, so that what was renamed or removed comes back."""

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("change", sa.Column("attributes", sa.JSON(), nullable=True))
    op.add_column("change", sa.Column("attributes_after", sa.JSON(), nullable=True))
