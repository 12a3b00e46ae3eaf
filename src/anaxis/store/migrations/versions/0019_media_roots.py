"""Which shows a media root is open to. None is open to any until somebody says so, or a setting does."""

import sqlalchemy as sa
from alembic import op

revision = "0019"
down_revision = "0018"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "media_root_shows",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("root", sa.Text, nullable=False),
        sa.Column("show_id", sa.Integer, sa.ForeignKey("shows.id"), nullable=False, index=True),
        sa.UniqueConstraint("root", "show_id"),
    )


def downgrade() -> None:
    op.drop_table("media_root_shows")
