"""Two pictures of one frame, laid over each other."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "stills",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("version_id", sa.Integer, sa.ForeignKey("versions.id"), nullable=False, index=True),
        sa.Column("frame", sa.Float, nullable=False),
        sa.Column("our_name", sa.Text, nullable=False),
        sa.Column("their_name", sa.Text, nullable=False),
        sa.Column("ours", sa.LargeBinary, nullable=False),
        sa.Column("theirs", sa.LargeBinary, nullable=False),
        sa.Column("measured", JSONB, nullable=False, server_default="{}"),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
    )


def downgrade() -> None:
    op.drop_table("stills")
