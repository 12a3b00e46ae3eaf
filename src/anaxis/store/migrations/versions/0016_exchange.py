"""Packages and trackers that are connected: what they hold, every change, links, clashes, recordings."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0016"
down_revision = "0015"
branch_labels = None
depends_on = None


def _at(name: str, default: object = None) -> sa.Column:
    return sa.Column(name, sa.DateTime(timezone=True), server_default=default, nullable=default is None)


def _made() -> sa.Column:
    return _at("created_at", sa.func.now())


def _to(name: str, table: str, nullable: bool = False, index: bool = False) -> sa.Column:
    return sa.Column(name, sa.Integer, sa.ForeignKey(f"{table}.id"), nullable=nullable, index=index)


def _key() -> sa.Column:
    return sa.Column("id", sa.Integer, primary_key=True)


def _text(name: str, default: str | None = None) -> sa.Column:
    return sa.Column(name, sa.Text, nullable=False, server_default=default)


def _count(name: str) -> sa.Column:
    return sa.Column(name, sa.BigInteger, nullable=False, server_default="0")


def _document(name: str, default: str = "{}") -> sa.Column:
    return sa.Column(name, JSONB, nullable=False, server_default=default)


def upgrade() -> None:
    op.execute(sa.schema.CreateSequence(sa.Sequence("exchange_effects")))
    op.create_table(
        "exchange_parties",
        _key(), _to("show_id", "shows"), _text("client"), _text("kind", "package"), _text("name"), _document("profile"), _text("actor"),
        sa.Column("connection", sa.Text), _at("connected_at"), _at("seen_at", sa.func.now()), _count("heard"), _count("sent"), _count("applied"),
        sa.Column("selected", sa.Text), _document("scene"), _text("said", ""), _at("removed_at"), _made(),
        sa.UniqueConstraint("show_id", "client"),
    )  # fmt: skip
    op.create_table(
        "exchange_cameras",
        _key(), _to("party_id", "exchange_parties"), _text("key"), _text("name"), sa.Column("first", sa.Float, nullable=False),
        sa.Column("last", sa.Float, nullable=False), _text("rate"), sa.Column("width_px", sa.Integer, nullable=False),
        sa.Column("height_px", sa.Integer, nullable=False), sa.Column("pixel_aspect", sa.Float, nullable=False), sa.Column("held", sa.LargeBinary),
        sa.Column("held_effect", sa.BigInteger), _to("camera_id", "cameras", nullable=True), _at("gone_at"), _made(),
        sa.UniqueConstraint("party_id", "key"),
    )  # fmt: skip
    op.create_table(
        "exchange_links",
        _key(), _to("show_id", "shows", index=True), _to("first_id", "exchange_cameras"), _to("second_id", "exchange_cameras"),
        sa.Column("both_ways", sa.Boolean, nullable=False), _text("rule"), _document("groups", "[]"), sa.Column("offset", sa.Float, nullable=False),
        sa.Column("follow", sa.Boolean, nullable=False, server_default="false"), sa.Column("every_s", sa.Integer, nullable=False, server_default="0"),
        _at("moment_at"), _count("moment_effect"), _text("actor"), _made(), _at("stopped_at"),
    )  # fmt: skip
    op.create_table(
        "exchange_changes",
        sa.Column("id", sa.BigInteger, primary_key=True), _to("party_id", "exchange_parties"), _to("shared_id", "exchange_cameras", nullable=True),
        _text("way"), sa.Column("number", sa.BigInteger, nullable=False), sa.Column("base", sa.BigInteger, nullable=False),
        sa.Column("replaces", sa.Boolean, nullable=False, server_default="false"), sa.Column("entry", JSONB), sa.Column("data", sa.LargeBinary, nullable=False),
        sa.Column("wire", sa.LargeBinary), sa.Column("back", sa.LargeBinary), sa.Column("effect", sa.BigInteger), sa.Column("frames", sa.Integer, nullable=False, server_default="0"),
        _to("link_id", "exchange_links", nullable=True, index=True), sa.Column("cause_id", sa.BigInteger), _text("said", ""),
        _at("created_at", sa.func.clock_timestamp()), _at("acknowledged_at"),
        sa.UniqueConstraint("party_id", "way", "number"),
    )  # fmt: skip
    op.create_index("exchange_changes_by_effect", "exchange_changes", ["shared_id", "effect"])
    op.create_index(
        "exchange_changes_open",
        "exchange_changes",
        ["party_id", "number"],
        postgresql_where=sa.text("acknowledged_at IS NULL"),
    )
    op.create_table(
        "exchange_clashes",
        _key(), _to("show_id", "shows"), _to("shared_id", "exchange_cameras", index=True), _to("link_id", "exchange_links", nullable=True, index=True),
        sa.Column("out_id", sa.BigInteger, nullable=False), _document("groups", "[]"), _document("frames", "[]"), _made(), _at("closed_at"), _text("chosen", ""),
    )  # fmt: skip
    op.create_table(
        "exchange_pulled",
        sa.Column("version_id", sa.Integer, sa.ForeignKey("versions.id"), primary_key=True), _to("shared_id", "exchange_cameras", index=True),
        sa.Column("data", sa.LargeBinary, nullable=False), _made(),
    )  # fmt: skip
    op.create_table(
        "exchange_recordings",
        _key(), _to("show_id", "shows", index=True), _to("party_id", "exchange_parties"), _text("name"), _text("actor"),
        sa.Column("width_px", sa.Integer, nullable=False), sa.Column("height_px", sa.Integer, nullable=False),
        sa.Column("samples", sa.Integer, nullable=False, server_default="0"), _document("settings"), _to("camera_id", "cameras", nullable=True),
        _made(), _at("stopped_at"), _at("ended_at"),
    )  # fmt: skip
    op.create_table(
        "exchange_blocks",
        sa.Column("recording_id", sa.Integer, sa.ForeignKey("exchange_recordings.id"), primary_key=True),
        sa.Column("number", sa.BigInteger, primary_key=True), sa.Column("data", sa.LargeBinary, nullable=False),
    )  # fmt: skip


def downgrade() -> None:
    for table in ("blocks", "recordings", "pulled", "clashes", "changes", "links", "cameras", "parties"):
        op.drop_table(f"exchange_{table}")
    op.execute(sa.schema.DropSequence(sa.Sequence("exchange_effects")))
