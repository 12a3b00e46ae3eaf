"""Links between packages of different frame rates resample the camera."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0029"
down_revision = "0028"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("exchange_links", sa.Column("scale", sa.Float()))
    op.add_column("exchange_links", sa.Column("anchor", sa.Float()))


def downgrade() -> None:
    op.drop_column("exchange_links", "anchor")
    op.drop_column("exchange_links", "scale")
