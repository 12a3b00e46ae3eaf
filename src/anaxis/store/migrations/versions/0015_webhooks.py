"""Whom to tell by HTTP when something is delivered, fails or falls behind, and what was told."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None


def _at(name: str, nullable: bool = True) -> sa.Column:
    return sa.Column(
        name, sa.DateTime(timezone=True), server_default=None if nullable else sa.func.now(), nullable=nullable
    )


def upgrade() -> None:
    op.create_table(
        "webhooks",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("show_id", sa.Integer, sa.ForeignKey("shows.id"), nullable=False, index=True),
        sa.Column("url", sa.Text, nullable=False),
        sa.Column("events", JSONB, nullable=False),
        sa.Column("secret", sa.Text, nullable=False),
        _at("created_at", False), _at("removed_at"),
    )  # fmt: skip
    op.create_table(
        "webhook_calls",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("webhook_id", sa.Integer, sa.ForeignKey("webhooks.id"), nullable=False, index=True),
        sa.Column("event", sa.Text, nullable=False),
        sa.Column("about", JSONB, nullable=False),
        sa.Column("state", sa.Text, nullable=False, server_default="waiting"),
        sa.Column("tries", sa.Integer, nullable=False, server_default="0"),
        sa.Column("said", sa.Text, nullable=False, server_default=""),
        _at("created_at", False), _at("ended_at"),
    )  # fmt: skip


def downgrade() -> None:
    op.drop_table("webhook_calls")
    op.drop_table("webhooks")
