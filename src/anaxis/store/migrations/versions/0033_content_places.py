"""Bytes may be kept outside the database, in a folder or an object store. An older program goes on until the first bytes are."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0033"
down_revision = "0032"
branch_labels = None
depends_on = None

# Not checked for the rows that are there, which would read all of them: they have their bytes.
_SOMEWHERE = "CHECK ((data IS NULL) = (place_id IS NOT NULL) AND (place_id IS NULL) = (key IS NULL)) NOT VALID"

# Tables whose rows have bytes of their own.
_OWNERS = ("made_files", "plate_proxies", "screenshots")
_TRIGGER = "CREATE TRIGGER contents_immutable BEFORE UPDATE OF sha256, data ON contents FOR EACH ROW {} EXECUTE FUNCTION refuse_update()"
# Content is moved, and never changed.
_OTHER_BYTES = (
    "WHEN (NEW.sha256 <> OLD.sha256 OR NEW.data IS NOT NULL AND encode(sha256(NEW.data), 'hex') <> NEW.sha256)"
)


def upgrade() -> None:
    op.create_table(
        "content_places",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("url", sa.Text(), nullable=False),
        sa.Column("owner", sa.Text(), nullable=False),
        sa.UniqueConstraint("url", "owner"),
    )
    op.create_table(
        "removable_contents",
        sa.Column("place_id", sa.Integer(), sa.ForeignKey("content_places.id"), primary_key=True),
        sa.Column("key", sa.Text(), primary_key=True),
        sa.Column("since", sa.DateTime(timezone=True), nullable=False, server_default=sa.func.now(), index=True),
    )
    op.execute("ALTER TABLE contents ALTER COLUMN data DROP NOT NULL")
    for table in _OWNERS:
        op.execute(f"ALTER TABLE {table} ALTER COLUMN data DROP NOT NULL")
        op.add_column(table, sa.Column("sha256", sa.Text(), sa.ForeignKey("contents.sha256")))
        op.create_index(f"ix_{table}_sha256", table, ["sha256"])
    op.add_column("contents", sa.Column("place_id", sa.Integer(), sa.ForeignKey("content_places.id")))
    op.add_column("contents", sa.Column("key", sa.Text()))
    op.add_column("contents", sa.Column("size", sa.BigInteger()))
    op.execute(f"ALTER TABLE contents ADD CONSTRAINT contents_are_somewhere {_SOMEWHERE}")
    op.execute("DROP TRIGGER contents_immutable ON contents")
    op.execute(_TRIGGER.format(_OTHER_BYTES))


def downgrade() -> None:
    """Fails where bytes are outside the database: 'anaxis contents move' without ANAXIS_CONTENTS brings them back first."""
    op.execute("DROP TRIGGER contents_immutable ON contents")
    op.execute(_TRIGGER.format(""))
    op.execute("ALTER TABLE contents DROP CONSTRAINT contents_are_somewhere")
    op.execute("ALTER TABLE contents ALTER COLUMN data SET NOT NULL")
    for table in _OWNERS:
        op.execute(f"UPDATE {table} t SET data = c.data FROM contents c WHERE t.data IS NULL AND c.sha256 = t.sha256")
        op.drop_column(table, "sha256")
        op.execute(f"ALTER TABLE {table} ALTER COLUMN data SET NOT NULL")
    for column in ("size", "key", "place_id"):
        op.drop_column("contents", column)
    op.drop_table("removable_contents")
    op.drop_table("content_places")
