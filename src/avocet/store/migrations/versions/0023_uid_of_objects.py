"""What tells the objects of a clip apart, whatever their numbers."""

import sqlalchemy as sa
from alembic import op

revision = "0023"
down_revision = "0022"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("clip_track", sa.Column("uid", sa.String(), nullable=False, server_default=""))
    op.execute("UPDATE clip_track SET uid = lower(hex(randomblob(16)))")
