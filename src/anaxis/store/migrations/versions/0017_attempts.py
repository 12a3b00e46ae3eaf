"""How many attempts at a job there were."""

import sqlalchemy as sa
from alembic import op

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("jobs", sa.Column("tries", sa.Integer, nullable=False, server_default="0"))


def downgrade() -> None:
    op.drop_column("jobs", "tries")
