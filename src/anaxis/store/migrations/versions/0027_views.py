"""What a person chose to see in views of a camera: guides, the circle of confusion."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0027"
down_revision = "0026"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("people", sa.Column("views", JSONB(), server_default="{}", nullable=False))


def downgrade() -> None:
    op.drop_column("people", "views")
