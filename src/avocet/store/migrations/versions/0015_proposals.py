"""Proposals know the model that made them, and are kept where a person refused them."""

import sqlalchemy as sa
from alembic import op

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("proposal", sa.Column("model", sa.String(), nullable=False, server_default=""))
    op.add_column("proposal", sa.Column("refused", sa.Boolean(), nullable=False, server_default="0"))
