"""Bytes of files kept once, by their checksum, whatever files are of them."""

import sqlalchemy as sa
from alembic import op

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None

_DIGEST = "encode(sha256({}), 'hex')"


def upgrade() -> None:
    op.create_table(
        "contents",
        sa.Column("sha256", sa.Text, primary_key=True),
        sa.Column("data", sa.LargeBinary, nullable=False),
        sa.Column("used_at", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
    )
    op.execute("ALTER TABLE contents ALTER COLUMN data SET STORAGE EXTERNAL")
    op.execute(
        "CREATE TRIGGER contents_immutable BEFORE UPDATE OF sha256, data ON contents FOR EACH ROW EXECUTE FUNCTION refuse_update()"
    )
    op.add_column("source_files", sa.Column("scene_sha256", sa.Text))
    op.execute("ALTER TABLE delivery_files DISABLE TRIGGER delivery_files_immutable")
    # The checksum of what is there, whatever was written down of it.
    op.execute(f"UPDATE source_files SET scene_sha256 = {_DIGEST.format('scene')}, sha256 = {_DIGEST.format('data')}")
    op.execute(f"UPDATE delivery_files SET sha256 = {_DIGEST.format('data')}")
    for table, digest, column in (
        ("source_files", "sha256", "data"), ("source_files", "scene_sha256", "scene"), ("delivery_files", "sha256", "data")
    ):  # fmt: skip
        op.execute(
            f"INSERT INTO contents (sha256, data) SELECT DISTINCT ON ({digest}) {digest}, {column} FROM {table} ON CONFLICT DO NOTHING"
        )
        op.drop_column(table, column)
        op.create_foreign_key(f"{table}_{digest}_fkey", table, "contents", [digest], ["sha256"])
    op.execute("ALTER TABLE delivery_files ENABLE TRIGGER delivery_files_immutable")
    op.alter_column("source_files", "scene_sha256", nullable=False)
    op.create_index("ix_source_files_scene_sha256", "source_files", ["scene_sha256"])
    op.create_index("ix_delivery_files_sha256", "delivery_files", ["sha256"])


def downgrade() -> None:
    op.drop_index("ix_delivery_files_sha256", "delivery_files")
    op.execute("ALTER TABLE delivery_files DISABLE TRIGGER delivery_files_immutable")
    for table, digest, column in (
        ("source_files", "sha256", "data"), ("source_files", "scene_sha256", "scene"), ("delivery_files", "sha256", "data")
    ):  # fmt: skip
        op.drop_constraint(f"{table}_{digest}_fkey", table)
        op.add_column(table, sa.Column(column, sa.LargeBinary))
        op.execute(f"ALTER TABLE {table} ALTER COLUMN {column} SET STORAGE EXTERNAL")
        op.execute(
            f"UPDATE {table} SET {column} = contents.data FROM contents WHERE contents.sha256 = {table}.{digest}"
        )
        op.alter_column(table, column, nullable=False)
    op.execute("ALTER TABLE delivery_files ENABLE TRIGGER delivery_files_immutable")
    op.drop_column("source_files", "scene_sha256")
    op.drop_table("contents")
