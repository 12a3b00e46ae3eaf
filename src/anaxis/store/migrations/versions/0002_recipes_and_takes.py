"""Recipes, takes and edits, what a shot expects, drafts of intake, saved recipes and column layouts."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    for column in (sa.Column("first_frame", sa.Float), sa.Column("last_frame", sa.Float), sa.Column("rate", sa.Text)):
        op.add_column("shots", column)
    op.add_column("source_files", sa.Column("draft", JSONB, nullable=False, server_default="{}"))
    op.add_column("source_files", sa.Column("layout", JSONB))
    op.add_column("versions", sa.Column("take", sa.Integer, nullable=False, server_default="1"))
    op.add_column("versions", sa.Column("edit", sa.Integer, nullable=False, server_default="0"))
    op.add_column("versions", sa.Column("parent_id", sa.Integer, sa.ForeignKey("versions.id")))
    op.add_column("versions", sa.Column("recipe", JSONB, nullable=False, server_default="[]"))
    op.add_column("versions", sa.Column("change", sa.Text, nullable=False, server_default=""))
    op.add_column("cameras", sa.Column("head_id", sa.Integer, sa.ForeignKey("versions.id")))
    op.add_column("cameras", sa.Column("made_here", sa.Boolean, nullable=False, server_default=sa.false()))
    op.add_column("cameras", sa.Column("missing_from_id", sa.Integer, sa.ForeignKey("source_files.id")))
    op.execute("ALTER TABLE versions DISABLE TRIGGER versions_immutable")
    # What was corrected on intake was not written down before: the values then in force say it.
    op.execute(
        """
        UPDATE versions SET take = number, recipe = jsonb_build_array(jsonb_build_object(
            'code', 'correct', 'on', true, 'params', jsonb_strip_nulls(jsonb_build_object(
                'up_axis', CASE WHEN facts->'guesses' ? 'up_axis' THEN NULL ELSE facts->'up_axis' END,
                'metres_per_unit', CASE WHEN facts->'guesses' ? 'metres_per_unit' THEN NULL ELSE facts->'metres_per_unit' END,
                'rate', CASE WHEN facts->'guesses' ? 'rate' THEN NULL ELSE facts->'rate' END))))
        WHERE facts->>'format' <> 'json' AND facts->>'up_axis' IN ('X', 'Y', 'Z')
        """
    )
    op.execute("UPDATE versions SET take = number WHERE recipe = '[]'")
    op.execute("ALTER TABLE versions ENABLE TRIGGER versions_immutable")
    for table, column in (("saved_recipes", "operations"), ("saved_layouts", "layout")):
        op.create_table(
            table,
            sa.Column("id", sa.Integer, primary_key=True),
            sa.Column("name", sa.Text, nullable=False, unique=True),
            sa.Column(column, JSONB, nullable=False),
            sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
        )


def downgrade() -> None:
    op.drop_table("saved_layouts")
    op.drop_table("saved_recipes")
    for table, column in (
        ("cameras", "missing_from_id"), ("cameras", "made_here"), ("cameras", "head_id"), ("versions", "change"), ("versions", "recipe"),
        ("versions", "parent_id"), ("versions", "edit"), ("versions", "take"), ("source_files", "layout"),
        ("source_files", "draft"), ("shots", "rate"), ("shots", "last_frame"), ("shots", "first_frame"),
    ):  # fmt: skip
        op.drop_column(table, column)
