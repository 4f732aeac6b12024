"""The time that people worked on the objects of clips."""

import sqlalchemy as sa
from alembic import op

revision = "0019"
down_revision = "0018"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("clip_track", sa.Column("worked", sa.Float(), nullable=False, server_default="0"))
