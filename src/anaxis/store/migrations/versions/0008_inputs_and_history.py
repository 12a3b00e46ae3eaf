"""What a version is made from, as rows of their own; and who did what, when, on what."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "version_inputs",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("version_id", sa.Integer, sa.ForeignKey("versions.id"), nullable=False, index=True),
        sa.Column("place", sa.Integer, nullable=False),
        sa.Column("role", sa.Text, nullable=False),
        sa.Column("source_file_id", sa.Integer, sa.ForeignKey("source_files.id"), index=True),
        sa.Column("camera_path", sa.Text),
        sa.Column("input_id", sa.Integer, sa.ForeignKey("versions.id"), index=True),
        sa.UniqueConstraint("version_id", "place"),
        sa.CheckConstraint(
            "(input_id IS NULL) = (source_file_id IS NOT NULL AND camera_path IS NOT NULL) AND input_id IS DISTINCT FROM version_id",
            name="one_thing_an_input",
        ),
    )
    op.execute(
        "INSERT INTO version_inputs (version_id, place, role, source_file_id, camera_path) "
        "SELECT id, 0, 'camera', source_file_id, camera_path FROM versions"
    )
    op.drop_column("versions", "source_file_id")
    op.drop_column("versions", "camera_path")
    op.create_table(
        "history",
        sa.Column("id", sa.BigInteger, primary_key=True),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
        sa.Column("actor", sa.Text, nullable=False),
        sa.Column("action", sa.Text, nullable=False),
        sa.Column("kind", sa.Text, nullable=False),
        sa.Column("about_id", sa.BigInteger, nullable=False),
        sa.Column("said", sa.Text, server_default="", nullable=False),
        sa.Column("detail", JSONB, server_default="{}", nullable=False),
    )
    op.create_index("history_about", "history", ["kind", "about_id"])
    for table, against in (("version_inputs", "UPDATE"), ("history", "UPDATE OR DELETE")):
        op.execute(
            f"CREATE TRIGGER {table}_immutable BEFORE {against} ON {table} FOR EACH ROW EXECUTE FUNCTION refuse_update()"
        )


def downgrade() -> None:
    op.drop_table("history")
    op.add_column("versions", sa.Column("source_file_id", sa.Integer, sa.ForeignKey("source_files.id")))
    op.add_column("versions", sa.Column("camera_path", sa.Text))
    op.execute("ALTER TABLE versions DISABLE TRIGGER versions_immutable")
    op.execute(
        "UPDATE versions SET source_file_id = i.source_file_id, camera_path = i.camera_path FROM version_inputs i "
        "WHERE i.version_id = versions.id AND i.place = 0"
    )
    op.execute("ALTER TABLE versions ENABLE TRIGGER versions_immutable")
    op.alter_column("versions", "source_file_id", nullable=False)
    op.alter_column("versions", "camera_path", nullable=False)
    op.drop_table("version_inputs")
