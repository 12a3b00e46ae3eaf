"""The first sixteen migrations in one: what a new store begins with, and an old one is recognised by."""

from pathlib import Path

from alembic import op
from procrastinate.schema import SchemaManager

revision = "0016"
down_revision = None
branch_labels = None
depends_on = None


def upgrade() -> None:
    tables = Path(__file__).with_suffix(".sql").read_text()
    for statements in (tables, SchemaManager.get_schema()):
        op.get_bind().exec_driver_sql(statements.replace("%", "%%"))


def downgrade() -> None:
    raise NotImplementedError("There is nothing below revision 0016.")
