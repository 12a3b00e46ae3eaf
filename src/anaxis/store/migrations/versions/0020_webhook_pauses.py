"""Webhooks whose receiver keeps failing are paused, and whoever added one is told."""

import sqlalchemy as sa
from alembic import op

revision = "0020"
down_revision = "0019"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("webhooks", sa.Column("owner", sa.Text, nullable=False, server_default=""))
    op.add_column("webhooks", sa.Column("failures", sa.Integer, nullable=False, server_default="0"))
    op.add_column("webhooks", sa.Column("paused_at", sa.DateTime(timezone=True)))
    op.execute(
        """UPDATE webhooks w SET owner = h.actor FROM history h
        WHERE h.kind = 'webhooks' AND h.about_id = w.id AND h.action = 'add a webhook'"""
    )


def downgrade() -> None:
    for column in ("paused_at", "failures", "owner"):
        op.drop_column("webhooks", column)
