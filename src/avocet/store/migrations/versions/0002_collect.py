"""What Collect keeps: attributes, tags, tracks, mass changes, audit marks.

There is no way down: dropping a column would lose what it holds.
"""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "change",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("project_id", sa.Integer(), nullable=False),
        sa.Column("title", sa.String(), nullable=False),
        sa.Column("made_at", sa.DateTime(), nullable=False),
        sa.Column("undone_at", sa.DateTime(), nullable=True),
        sa.Column("classes", sa.JSON(), nullable=False),
        sa.ForeignKeyConstraint(["project_id"], ["project.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    with op.batch_alter_table("change", schema=None) as batch_op:
        batch_op.create_index(batch_op.f("ix_change_project_id"), ["project_id"], unique=False)

    op.create_table(
        "crop_look",
        sa.Column("project_id", sa.Integer(), nullable=False),
        sa.Column("crop", sa.String(), nullable=False),
        sa.Column("brightness", sa.Double(), nullable=False),
        sa.Column("features", sa.LargeBinary(), nullable=False),
        sa.ForeignKeyConstraint(["project_id"], ["project.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("project_id", "crop"),
    )
    op.create_table(
        "fine_as_it_is",
        sa.Column("project_id", sa.Integer(), nullable=False),
        sa.Column("finding", sa.String(), nullable=False),
        sa.Column("marked_at", sa.DateTime(), nullable=False),
        sa.ForeignKeyConstraint(["project_id"], ["project.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("project_id", "finding"),
    )
    op.create_table(
        "attribute",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("project_id", sa.Integer(), nullable=False),
        sa.Column("class_id", sa.Integer(), nullable=True),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column(
            "kind",
            sa.Enum("flag", "choice", "number", name="attributekind", native_enum=False, length=20),
            nullable=False,
        ),
        sa.Column("choices", sa.JSON(), nullable=False),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(["class_id"], ["object_class.id"], ondelete="SET NULL"),
        sa.ForeignKeyConstraint(["project_id"], ["project.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("project_id", "name"),
    )
    op.create_table(
        "changed_picture",
        sa.Column("change_id", sa.Integer(), nullable=False),
        sa.Column("picture_id", sa.Integer(), nullable=False),
        sa.Column("after", sa.String(), nullable=False),
        sa.Column("before", sa.JSON(), nullable=False),
        sa.ForeignKeyConstraint(["change_id"], ["change.id"], ondelete="CASCADE"),
        sa.ForeignKeyConstraint(["picture_id"], ["picture.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("change_id", "picture_id"),
    )
    op.create_table(
        "picture_tag",
        sa.Column("picture_id", sa.Integer(), nullable=False),
        sa.Column("tag", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(["picture_id"], ["picture.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("picture_id", "tag"),
    )
    with op.batch_alter_table("picture_tag", schema=None) as batch_op:
        batch_op.create_index("ix_picture_tag_tag", ["tag", "picture_id"], unique=False)

    with op.batch_alter_table("box", schema=None) as batch_op:
        batch_op.add_column(sa.Column("track", sa.Integer(), nullable=True))
        batch_op.create_index(
            "ix_box_attributes", ["picture_id"], unique=False, sqlite_where=sa.text("attributes <> '{}'")
        )

    with op.batch_alter_table("object_class", schema=None) as batch_op:
        batch_op.add_column(sa.Column("retired_at", sa.DateTime(), nullable=True))

    with op.batch_alter_table("picture", schema=None) as batch_op:
        batch_op.add_column(sa.Column("source", sa.String(), server_default="", nullable=False))
        batch_op.add_column(sa.Column("path", sa.String(), nullable=True))
        batch_op.add_column(sa.Column("file_size", sa.Integer(), nullable=True))
        batch_op.add_column(sa.Column("file_time", sa.BigInteger(), nullable=True))
        batch_op.add_column(sa.Column("look", sa.BigInteger(), nullable=True))
        batch_op.add_column(sa.Column("box_count", sa.Integer(), server_default="0", nullable=False))
        batch_op.add_column(sa.Column("labelled_at", sa.DateTime(), nullable=True))
        batch_op.create_index(
            "ix_picture_boxes", ["project_id", "binned_at", "box_count", "id"], unique=False
        )
        batch_op.create_index("ix_picture_name", ["project_id", "binned_at", "name", "id"], unique=False)
        batch_op.create_index("ix_picture_part", ["project_id", "binned_at", "part", "id"], unique=False)
        batch_op.create_index("ix_picture_state", ["project_id", "binned_at", "state", "id"], unique=False)

    with op.batch_alter_table("snapshot", schema=None) as batch_op:
        batch_op.add_column(sa.Column("name", sa.String(), server_default="", nullable=False))
        batch_op.add_column(sa.Column("note", sa.String(), server_default="", nullable=False))

    op.execute("UPDATE picture SET box_count = (SELECT count(*) FROM box WHERE box.picture_id = picture.id)")
    for position, name in enumerate(("occluded", "cut off", "ignore"), start=1):
        op.execute(
            "INSERT INTO attribute (project_id, name, kind, choices, position) "
            f"SELECT id, '{name}', 'flag', '[]', {position} FROM project"
        )
