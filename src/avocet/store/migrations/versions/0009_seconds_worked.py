"""A job keeps how long it has worked, so that a clock that is set back does not confuse the time left.

There is no way down: the next progress of a job would set it again.
"""

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("job", sa.Column("seconds_worked", sa.Float(), server_default="0", nullable=False))
