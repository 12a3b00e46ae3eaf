"""Packages of one's own, in versions, and cameras that came back."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "packages",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("key", sa.Text, nullable=False),
        sa.Column("number", sa.Integer, nullable=False),
        sa.Column("document", JSONB, nullable=False),
        sa.Column("change", sa.Text, nullable=False, server_default=""),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
        sa.UniqueConstraint("key", "number"),
    )
    op.create_table(
        "returns",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("version_id", sa.Integer, sa.ForeignKey("versions.id"), nullable=False, index=True),
        sa.Column("profile", JSONB, nullable=False),
        sa.Column("name", sa.Text, nullable=False),
        sa.Column("sha256", sa.Text, nullable=False),
        sa.Column("data", sa.LargeBinary, nullable=False),
        sa.Column("track", sa.LargeBinary, nullable=False),
        sa.Column("max_px", sa.Float, nullable=False),
        sa.Column("worst_frame", sa.Float, nullable=False),
        sa.Column("median_px", sa.Float, nullable=False),
        sa.Column("grade", sa.Text, nullable=False),
        sa.Column("missing", sa.Integer, nullable=False, server_default="0"),
        sa.Column("diagnosis", JSONB, nullable=False, server_default="{}"),
        sa.Column("proof", sa.LargeBinary, nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
    )


def downgrade() -> None:
    op.drop_table("returns")
    op.drop_table("packages")
