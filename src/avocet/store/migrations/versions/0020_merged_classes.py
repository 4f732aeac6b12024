"""The class that a merged one became."""

from alembic import op

revision = "0020"
down_revision = "0019"
branch_labels = None
depends_on = None


def upgrade() -> None:
    # In words of SQLite, which can add a column with a reference but no reference to a column.
    op.execute(
        "ALTER TABLE object_class ADD COLUMN merged_into INTEGER REFERENCES object_class (id) ON DELETE SET NULL"
    )
