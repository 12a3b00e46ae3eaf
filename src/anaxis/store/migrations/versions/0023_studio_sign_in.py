"""Signing in by the studio's own service, and a second factor for people with a password of their own."""

import sqlalchemy as sa
from alembic import op

revision = "0023"
down_revision = "0022"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("people", sa.Column("subject", sa.Text, unique=True))
    op.add_column("people", sa.Column("code_secret", sa.Text))
    op.add_column("people", sa.Column("code_step", sa.BigInteger, nullable=False, server_default="0"))
    op.add_column("sign_ins", sa.Column("ends_at", sa.DateTime(timezone=True)))
    op.execute("DROP TRIGGER rights_changed ON people")
    op.execute(
        """CREATE TRIGGER rights_changed AFTER UPDATE OF everywhere, disabled_at, password, subject OR DELETE ON people
        FOR EACH ROW EXECUTE FUNCTION rights_changed()"""
    )


def downgrade() -> None:
    op.execute("DROP TRIGGER rights_changed ON people")
    op.execute(
        """CREATE TRIGGER rights_changed AFTER UPDATE OF everywhere, disabled_at, password OR DELETE ON people
        FOR EACH ROW EXECUTE FUNCTION rights_changed()"""
    )
    op.drop_column("sign_ins", "ends_at")
    for column in ("code_step", "code_secret", "subject"):
        op.drop_column("people", column)
