"""Notices for people, by mail where they ask for it; indexes for search; the webhook event "behind" is called "outdated"."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0030"
down_revision = "0029"
branch_labels = None
depends_on = None

_NAMED = ("shots", "cameras", "source_files", "delivery_files", "people")
# As anaxis.store.search asks.
_NAME = r"to_tsvector('simple'::regconfig, translate(name, '_./\:|-', '       '))"
_FINDINGS = """jsonb_to_tsvector('simple'::regconfig, findings, '["string"]'::jsonb)"""


def upgrade() -> None:
    op.add_column("people", sa.Column("email", sa.Text()))
    op.add_column("people", sa.Column("mails", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.create_table(
        "notices",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("person_id", sa.Integer(), sa.ForeignKey("people.id"), nullable=False),
        sa.Column("show_id", sa.Integer(), sa.ForeignKey("shows.id"), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("sentence", sa.Text(), nullable=False),
        sa.Column("link", sa.Text(), nullable=False),
        sa.Column("key", sa.Text(), nullable=False),
        sa.Column("mail", sa.Text(), nullable=False, server_default=""),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False, server_default=sa.func.now()),
        sa.Column("read_at", sa.DateTime(timezone=True)),
        sa.UniqueConstraint("person_id", "key"),
    )
    op.create_index("notices_newest", "notices", ["person_id", "created_at"])
    op.create_index("notices_unread", "notices", ["person_id"], postgresql_where=sa.text("read_at IS NULL"))
    op.create_index("notices_to_mail", "notices", ["person_id"], postgresql_where=sa.text("mail = 'waiting'"))
    for table in _NAMED:
        op.execute(f"CREATE INDEX {table}_search ON {table} USING gin (({_NAME}))")
    op.execute(f"CREATE INDEX versions_findings_search ON versions USING gin (({_FINDINGS}))")
    for table in ("source_files", "delivery_files"):
        op.execute(f"CREATE INDEX {table}_checksum ON {table} (sha256 text_pattern_ops)")
    _call_event("behind", "outdated")


def downgrade() -> None:
    _call_event("outdated", "behind")
    for table in ("source_files", "delivery_files"):
        op.drop_index(f"{table}_checksum", table)
    op.drop_index("versions_findings_search", "versions")
    for table in _NAMED:
        op.drop_index(f"{table}_search", table)
    op.drop_table("notices")
    op.drop_column("people", "mails")
    op.drop_column("people", "email")


def _call_event(was: str, now: str) -> None:
    names = f"""jsonb_agg(CASE WHEN e = '"{was}"'::jsonb THEN '"{now}"'::jsonb ELSE e END)"""
    op.execute(
        f"UPDATE webhooks SET events = (SELECT {names} FROM jsonb_array_elements(events) e) WHERE events ? '{was}'"
    )
    op.execute(f"UPDATE webhook_calls SET event = '{now}' WHERE event = '{was}' AND state = 'waiting'")
