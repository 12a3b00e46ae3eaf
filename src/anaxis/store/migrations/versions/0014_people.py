"""People with roles, how they are signed in, their tokens; who is at a camera; who asked for work and put a file aside."""

import sqlalchemy as sa
from alembic import op

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None


def _at(name: str, nullable: bool = True) -> sa.Column:
    default = None if nullable else sa.func.now()
    return sa.Column(name, sa.DateTime(timezone=True), server_default=default, nullable=nullable)


def _of(target: str, **kw: object) -> sa.Column:
    column = "person_id" if target == "people" else f"{target[:-1]}_id"
    return sa.Column(column, sa.Integer, sa.ForeignKey(f"{target}.id", ondelete="CASCADE"), **kw)


def upgrade() -> None:
    op.create_table(
        "people",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("name", sa.Text, nullable=False),
        sa.Column("password", sa.Text),
        sa.Column("everywhere", sa.Integer, nullable=False, server_default="0"),
        _at("disabled_at"), _at("created_at", False),
    )  # fmt: skip
    op.create_index("one_person_of_a_name", "people", [sa.text("lower(name)")], unique=True)
    op.create_table(
        "roles_in_shows", _of("people", primary_key=True), _of("shows", primary_key=True), sa.Column("role", sa.Integer, nullable=False)
    )  # fmt: skip
    op.create_table(
        "sign_ins", sa.Column("digest", sa.Text, primary_key=True), _of("people", nullable=False, index=True),
        sa.Column("browser", sa.Text, nullable=False, server_default=""), _at("created_at", False), _at("seen_at", False),
    )  # fmt: skip
    op.create_table(
        "one_time_links", sa.Column("digest", sa.Text, primary_key=True), _of("people", nullable=False, index=True), _at("expires_at", False)
    )  # fmt: skip
    op.create_table(
        "sign_in_tries", sa.Column("id", sa.BigInteger, primary_key=True), sa.Column("name", sa.Text, nullable=False),
        sa.Column("client", sa.Text, nullable=False), _at("at", False),
    )  # fmt: skip
    op.create_index("sign_in_tries_at", "sign_in_tries", ["at"])
    op.create_table(
        "tokens", sa.Column("id", sa.Integer, primary_key=True), _of("people", nullable=False, index=True),
        sa.Column("name", sa.Text, nullable=False), sa.Column("digest", sa.Text, nullable=False, unique=True),
        sa.Column("role", sa.Integer, nullable=False), _of("shows"), _at("created_at", False), _at("expires_at", False), _at("revoked_at"),
        _at("used_at"),
    )  # fmt: skip
    op.create_table(
        "server_keys", sa.Column("id", sa.Integer, primary_key=True), sa.Column("key", sa.LargeBinary, nullable=False)
    )
    op.create_table(
        "presence", _of("cameras", primary_key=True), sa.Column("who", sa.Text, primary_key=True), _at("seen_at", False)
    )
    op.create_table(
        "answers_given", sa.Column("who", sa.Text, primary_key=True), sa.Column("key", sa.Text, primary_key=True),
        sa.Column("asked", sa.Text, nullable=False), sa.Column("status", sa.Integer), sa.Column("body", sa.LargeBinary), _at("created_at", False),
    )  # fmt: skip
    for table in ("jobs", "source_files"):
        op.add_column(table, sa.Column("actor", sa.Text, nullable=False, server_default="local"))


def downgrade() -> None:
    for table in ("source_files", "jobs"):
        op.drop_column(table, "actor")
    for table in (
        "answers_given",
        "presence",
        "server_keys",
        "tokens",
        "sign_in_tries",
        "one_time_links",
        "sign_ins",
        "roles_in_shows",
        "people",
    ):
        op.drop_table(table)
