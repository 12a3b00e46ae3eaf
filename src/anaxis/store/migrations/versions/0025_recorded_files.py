"""Recordings that came as a file: without a tracker, with their file."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0025"
down_revision = "0024"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.alter_column("exchange_recordings", "party_id", existing_type=sa.Integer(), nullable=True)
    op.add_column(
        "exchange_recordings",
        sa.Column("source_file_id", sa.Integer(), sa.ForeignKey("source_files.id"), nullable=True),
    )
    op.add_column("exchange_recordings", sa.Column("findings", JSONB(), server_default="[]", nullable=False))


def downgrade() -> None:
    op.execute(
        "DELETE FROM exchange_blocks WHERE recording_id IN (SELECT id FROM exchange_recordings WHERE party_id IS NULL)"
    )
    op.execute("DELETE FROM exchange_recordings WHERE party_id IS NULL")
    op.drop_column("exchange_recordings", "findings")
    op.drop_column("exchange_recordings", "source_file_id")
    op.alter_column("exchange_recordings", "party_id", existing_type=sa.Integer(), nullable=False)
