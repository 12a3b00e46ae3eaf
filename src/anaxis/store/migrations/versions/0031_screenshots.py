"""Screenshots of receiving packages, with where a person placed the landmarks and what they say of the camera."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0031"
down_revision = "0030"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "screenshots",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("version_id", sa.Integer(), sa.ForeignKey("versions.id"), nullable=False, index=True),
        sa.Column("profile", JSONB(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("data", sa.LargeBinary(), nullable=False),
        sa.Column("width_px", sa.Integer(), nullable=False),
        sa.Column("height_px", sa.Integer(), nullable=False),
        sa.Column("area", JSONB(), nullable=False),
        sa.Column("frame", sa.Float()),
        sa.Column("points", JSONB(), nullable=False, server_default="{}"),
        sa.Column("found", sa.Boolean(), nullable=False, server_default=sa.false()),
        sa.Column("diagnosis", JSONB(), nullable=False, server_default="{}"),
        sa.Column("removed_at", sa.DateTime(timezone=True)),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False, server_default=sa.func.now()),
    )


def downgrade() -> None:
    op.drop_table("screenshots")
