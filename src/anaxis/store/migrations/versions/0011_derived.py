"""Cameras made from cameras: how they were made. And cameras taken off the lists."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "derivations",
        sa.Column("source_file_id", sa.Integer, sa.ForeignKey("source_files.id"), primary_key=True),
        sa.Column("kind", sa.Text, nullable=False),
        sa.Column("settings", JSONB, nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
    )
    op.execute(
        "CREATE TRIGGER derivations_immutable BEFORE UPDATE ON derivations FOR EACH ROW EXECUTE FUNCTION refuse_update()"
    )
    op.add_column("cameras", sa.Column("removed_at", sa.DateTime(timezone=True)))
    op.drop_constraint("known_kind_of_plate", "plates")
    op.create_check_constraint("known_kind_of_plate", "plates", "kind IN ('as shot', 'undistorted', 'equirectangular')")


def downgrade() -> None:
    op.drop_constraint("known_kind_of_plate", "plates")
    op.create_check_constraint("known_kind_of_plate", "plates", "kind IN ('as shot', 'undistorted')")
    op.drop_column("cameras", "removed_at")
    op.drop_table("derivations")
