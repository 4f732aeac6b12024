"""A change keeps how it left the classes, so that undoing it touches nothing that came later.

There is no way down: a change that does not say it is undone by what the next one met.
"""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("change", sa.Column("classes_after", sa.JSON(), nullable=True))
