"""A number that rises with every change of anybody's rights, kept by triggers: no code can forget it.

The trigger also notifies every server, so that open sockets are checked at once.
"""

from alembic import op

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None

_TRIGGERS = {
    "people": "UPDATE OF everywhere, disabled_at, password OR DELETE",
    "roles_in_shows": "INSERT OR UPDATE OR DELETE",
    "tokens": "UPDATE OF role, show_id, revoked_at, expires_at OR DELETE",
    "sign_ins": "DELETE",
}


def upgrade() -> None:
    op.execute("CREATE TABLE rights (id integer PRIMARY KEY CHECK (id = 1), revision bigint NOT NULL)")
    op.execute("INSERT INTO rights VALUES (1, 1)")
    op.execute(
        """CREATE FUNCTION rights_changed() RETURNS trigger LANGUAGE plpgsql AS $$
        BEGIN
            UPDATE rights SET revision = revision + 1;
            PERFORM pg_notify('anaxis_exchange', 'rights');
            RETURN NULL;
        END $$"""
    )
    for table, when in _TRIGGERS.items():
        op.execute(
            f"CREATE TRIGGER rights_changed AFTER {when} ON {table} FOR EACH ROW EXECUTE FUNCTION rights_changed()"
        )


def downgrade() -> None:
    for table in _TRIGGERS:
        op.execute(f"DROP TRIGGER rights_changed ON {table}")
    op.execute("DROP FUNCTION rights_changed")
    op.execute("DROP TABLE rights")
