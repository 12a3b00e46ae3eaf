"""The exchange's tables say client, remote camera, direction and sequence, as the code does."""

from collections.abc import Sequence

import sqlalchemy as sa
from alembic import op

revision = "0026"
down_revision = "0025"
branch_labels = None
depends_on = None

_COLUMNS = [
    ("exchange_parties", "client", "key"),
    ("exchange_parties", "heard", "last_received"),
    ("exchange_parties", "sent", "last_sent"),
    ("exchange_parties", "applied", "last_acked"),
    ("exchange_cameras", "party_id", "client_id"),
    ("exchange_cameras", "held_effect", "held_sequence"),
    ("exchange_changes", "party_id", "client_id"),
    ("exchange_changes", "shared_id", "remote_id"),
    ("exchange_changes", "way", "direction"),
    ("exchange_changes", "effect", "sequence"),
    ("exchange_links", "moment_effect", "moment_sequence"),
    ("exchange_clashes", "shared_id", "remote_id"),
    ("exchange_pulled", "shared_id", "remote_id"),
    ("exchange_recordings", "party_id", "client_id"),
]
_TABLE = ("exchange_parties", "exchange_clients")
_SEQUENCE = ("exchange_effects", "exchange_sequence")
# Parts of the names of constraints and indexes.
_PARTS = [
    ("exchange_parties_show_id_client", "exchange_clients_show_id_key"),
    ("exchange_parties", "exchange_clients"),
    ("party_id", "client_id"),
    ("shared_id", "remote_id"),
    ("_way_", "_direction_"),
    ("changes_by_effect", "changes_by_sequence"),
]


def upgrade() -> None:
    for table, old, new in _COLUMNS:
        op.alter_column(table, old, new_column_name=new)
    op.rename_table(*_TABLE)
    op.execute(f"ALTER SEQUENCE {_SEQUENCE[0]} RENAME TO {_SEQUENCE[1]}")
    op.execute("ALTER SEQUENCE IF EXISTS exchange_parties_id_seq RENAME TO exchange_clients_id_seq")
    _rename_parts(_PARTS)


def downgrade() -> None:
    _rename_parts([(new, old) for old, new in _PARTS])
    op.execute("ALTER SEQUENCE IF EXISTS exchange_clients_id_seq RENAME TO exchange_parties_id_seq")
    op.execute(f"ALTER SEQUENCE {_SEQUENCE[1]} RENAME TO {_SEQUENCE[0]}")
    op.rename_table(*reversed(_TABLE))
    for table, old, new in _COLUMNS:
        op.alter_column(table, new, new_column_name=old)


def _rename_parts(parts: Sequence[tuple[str, str]]) -> None:
    line = op.get_bind()
    constraints = line.execute(
        sa.text(
            "SELECT conrelid::regclass::text, conname FROM pg_constraint WHERE conrelid::regclass::text LIKE 'exchange%'"
        )
    ).all()
    for table, name in constraints:
        if (new := _renamed(name, parts)) != name:
            line.execute(sa.text(f'ALTER TABLE {table} RENAME CONSTRAINT "{name}" TO "{new}"'))
    indexes = line.execute(
        sa.text("SELECT indexname FROM pg_indexes WHERE schemaname = current_schema() AND tablename LIKE 'exchange%'")
    ).all()
    for (name,) in indexes:  # those of constraints went with them
        if (new := _renamed(name, parts)) != name:
            line.execute(sa.text(f'ALTER INDEX "{name}" RENAME TO "{new}"'))


def _renamed(name: str, parts: Sequence[tuple[str, str]]) -> str:
    for old, new in parts:
        name = name.replace(old, new)
    return name
