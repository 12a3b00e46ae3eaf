"""A show's plan, its runs, the workers that do them; shots and shows that are archived; numbered recipes."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None


def upgrade() -> None:
    for table in ("shows", "shots"):
        op.add_column(table, sa.Column("archived_at", sa.DateTime(timezone=True)))
    # How files of a show are named, as it was said last.
    op.add_column("shows", sa.Column("rule", sa.Text, nullable=False, server_default=""))
    op.create_table(
        "plan_targets",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("show_id", sa.Integer, sa.ForeignKey("shows.id"), nullable=False, index=True),
        sa.Column("package", sa.Text, nullable=False),
        sa.Column("format", sa.Text, nullable=False),
        sa.Column("options", JSONB, nullable=False, server_default="{}"),
        sa.Column("recipe", sa.Text, nullable=False, server_default=""),
        sa.Column("shots", JSONB),
        sa.Column("removed_at", sa.DateTime(timezone=True)),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
    )
    op.create_index(
        "one_target_of_a_kind", "plan_targets", ["show_id", "package", "format"], unique=True,
        postgresql_where=sa.text("removed_at IS NULL"),
    )  # fmt: skip
    op.create_table(
        "runs",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("show_id", sa.Integer, sa.ForeignKey("shows.id"), nullable=False, index=True),
        sa.Column("actor", sa.Text, nullable=False),
        sa.Column("recipes", JSONB, nullable=False, server_default="{}"),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
    )
    op.create_table(
        "workers",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("host", sa.Text, nullable=False),
        sa.Column("pid", sa.Integer, nullable=False),
        sa.Column("at_once", sa.Integer, nullable=False, server_default="1"),
        sa.Column("begun_at", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
        sa.Column("heard_at", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
    )
    for column in (
        sa.Column("run_id", sa.Integer, sa.ForeignKey("runs.id"), index=True),
        sa.Column("target_id", sa.Integer, sa.ForeignKey("plan_targets.id"), index=True),
        sa.Column("worker_id", sa.Integer, sa.ForeignKey("workers.id", ondelete="SET NULL")),
        sa.Column("begun_at", sa.DateTime(timezone=True)),
        sa.Column("ended_at", sa.DateTime(timezone=True)),
    ):
        op.add_column("jobs", column)
    op.create_index("jobs_of_version", "jobs", ["version_id"])
    op.create_index("history_at", "history", ["at"])
    op.add_column("saved_recipes", sa.Column("number", sa.Integer, nullable=False, server_default="1"))
    op.drop_constraint("saved_recipes_name_key", "saved_recipes")
    op.create_unique_constraint("one_recipe_of_a_number", "saved_recipes", ["name", "number"])


def downgrade() -> None:
    op.drop_constraint("one_recipe_of_a_number", "saved_recipes")
    op.execute("DELETE FROM saved_recipes a USING saved_recipes b WHERE a.name = b.name AND a.number < b.number")
    op.drop_column("saved_recipes", "number")
    op.create_unique_constraint("saved_recipes_name_key", "saved_recipes", ["name"])
    op.drop_index("history_at", "history")
    op.drop_index("jobs_of_version", "jobs")
    for column in ("ended_at", "begun_at", "worker_id", "target_id", "run_id"):
        op.drop_column("jobs", column)
    for table in ("workers", "runs", "plan_targets"):
        op.drop_table(table)
    op.drop_column("shows", "rule")
    for table in ("shots", "shows"):
        op.drop_column(table, "archived_at")
