"""A plan's target may put cameras together in one file."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0028"
down_revision = "0027"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("plan_targets", sa.Column("together", sa.Text(), server_default="", nullable=False))


def downgrade() -> None:
    op.drop_column("plan_targets", "together")
