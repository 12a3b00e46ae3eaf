"""Guides over the picture, chosen once and saved with the person."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0027"
down_revision = "0026"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("people", sa.Column("guides", JSONB(), server_default="{}", nullable=False))


def downgrade() -> None:
    op.drop_column("people", "guides")
