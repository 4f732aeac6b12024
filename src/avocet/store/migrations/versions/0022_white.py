"""What is white in pictures of more than 8 bits."""

import sqlalchemy as sa
from alembic import op

revision = "0022"
down_revision = "0021"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("project", sa.Column("white", sa.Float()))
    for name in ("white", "declared_white", "least_white"):
        op.add_column("picture", sa.Column(name, sa.Float()))
    op.create_index(
        "ix_picture_white", "picture", ["project_id", "least_white", "white"],
        sqlite_where=sa.text("white IS NOT NULL"),
    )  # fmt: skip
