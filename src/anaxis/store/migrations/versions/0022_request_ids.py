"""The request that asked for a job, for the logs."""

import sqlalchemy as sa
from alembic import op

revision = "0022"
down_revision = "0021"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("jobs", sa.Column("request_id", sa.Text, nullable=False, server_default=""))


def downgrade() -> None:
    op.drop_column("jobs", "request_id")
