"""Plates of a shot, and their proxies, which may be thrown away and made again."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "plates",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("shot_id", sa.Integer, sa.ForeignKey("shots.id"), nullable=False, index=True),
        sa.Column("name", sa.Text, nullable=False),
        sa.Column("kind", sa.Text, nullable=False),
        sa.Column("root", sa.Text, nullable=False),
        sa.Column("folder", sa.Text, nullable=False),
        sa.Column("files", JSONB, nullable=False),
        sa.Column("facts", JSONB, nullable=False),
        sa.Column("seen", JSONB, nullable=False, server_default="{}"),
        sa.Column("frame_offset", sa.Integer, nullable=False, server_default="0"),
        sa.Column("view", sa.Text, nullable=False, server_default="plain"),
        sa.Column("stops", sa.Float, nullable=False, server_default="0"),
        sa.Column("removed_at", sa.DateTime(timezone=True)),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
        sa.CheckConstraint("kind IN ('as shot', 'undistorted')", name="known_kind_of_plate"),
    )
    op.create_index(
        "one_plate_of_a_name",
        "plates",
        ["shot_id", "name"],
        unique=True,
        postgresql_where=sa.text("removed_at IS NULL"),
    )
    op.create_table(
        "plate_proxies",
        sa.Column("plate_id", sa.Integer, sa.ForeignKey("plates.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("number", sa.Integer, primary_key=True),
        sa.Column("look", sa.Text, primary_key=True),
        sa.Column("data", sa.LargeBinary, nullable=False),
    )


def downgrade() -> None:
    op.drop_table("plate_proxies")
    op.drop_table("plates")
