"""What of a delivery arrived beside its picture: frames that are missing, differences, between frames."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("deliveries", sa.Column("arrival", JSONB, server_default="{}", nullable=False))


def downgrade() -> None:
    op.drop_column("deliveries", "arrival")
