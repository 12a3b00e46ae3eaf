"""Long work and its queue, what was asked of a delivery, film backs under a name."""

import sqlalchemy as sa
from alembic import op
from procrastinate.schema import SchemaManager
from sqlalchemy.dialects.postgresql import JSONB

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("deliveries", sa.Column("options", JSONB, nullable=False, server_default="{}"))
    op.create_table(
        "jobs",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("kind", sa.Text, nullable=False),
        sa.Column("version_id", sa.Integer, sa.ForeignKey("versions.id"), nullable=False),
        sa.Column("params", JSONB, nullable=False, server_default="{}"),
        sa.Column("state", sa.Text, nullable=False, server_default="waiting"),
        sa.Column("share", sa.Float, nullable=False, server_default="0"),
        sa.Column("said", sa.Text, nullable=False, server_default=""),
        sa.Column("result", JSONB, nullable=False, server_default="{}"),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
    )
    op.create_table(
        "saved_film_backs",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("name", sa.Text, nullable=False, unique=True),
        sa.Column("width_mm", sa.Float, nullable=False),
        sa.Column("height_mm", sa.Float, nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
    )
    # The queue's own tables, as the version that is locked makes them.
    op.get_bind().exec_driver_sql(SchemaManager.get_schema().replace("%", "%%"))


def downgrade() -> None:
    op.execute(
        """
        DO $$ DECLARE found record; BEGIN
          FOR found IN SELECT oid::regprocedure AS it FROM pg_proc WHERE proname LIKE 'procrastinate%' LOOP
            EXECUTE 'DROP FUNCTION IF EXISTS ' || found.it || ' CASCADE';
          END LOOP;
          FOR found IN SELECT tablename AS it FROM pg_tables WHERE schemaname = 'public' AND tablename LIKE 'procrastinate%' LOOP
            EXECUTE 'DROP TABLE IF EXISTS ' || quote_ident(found.it) || ' CASCADE';
          END LOOP;
          FOR found IN SELECT typname AS it FROM pg_type WHERE typname LIKE 'procrastinate%' AND typtype IN ('e', 'c') LOOP
            EXECUTE 'DROP TYPE IF EXISTS ' || quote_ident(found.it) || ' CASCADE';
          END LOOP;
        END $$
        """
    )
    op.drop_table("saved_film_backs")
    op.drop_table("jobs")
    op.drop_column("deliveries", "options")
