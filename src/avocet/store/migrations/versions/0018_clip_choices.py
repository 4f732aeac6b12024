"""How each clip is labelled and thinned out, clips in the bin, and the time that people worked on pictures."""

import sqlalchemy as sa
from alembic import op

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("clip", sa.Column("labelled_as", sa.String(), nullable=True))
    op.add_column("clip", sa.Column("first", sa.Integer(), nullable=False, server_default="0"))
    op.add_column("clip", sa.Column("last", sa.Integer(), nullable=True))
    op.add_column("clip", sa.Column("per_second", sa.Float(), nullable=True))
    op.add_column("clip", sa.Column("differing", sa.Float(), nullable=True))
    op.add_column("clip", sa.Column("binned_at", sa.DateTime(), nullable=True))
    op.add_column("picture", sa.Column("worked", sa.Float(), nullable=False, server_default="0"))
