"""Boxes know where they come from; of earlier ones it was not recorded."""

import sqlalchemy as sa
from alembic import op

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("box", sa.Column("origin", sa.String(), nullable=False, server_default=""))
