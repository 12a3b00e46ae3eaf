"""The addresses that each person has signed in from; wrong tries are counted in memory now."""

import sqlalchemy as sa
from alembic import op

revision = "0021"
down_revision = "0020"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "known_addresses",
        sa.Column("person_id", sa.Integer, sa.ForeignKey("people.id"), primary_key=True),
        sa.Column("address", sa.Text, primary_key=True),
        sa.Column("seen_at", sa.DateTime(timezone=True), nullable=False, server_default=sa.func.now()),
    )
    op.drop_table("sign_in_tries")


def downgrade() -> None:
    op.drop_table("known_addresses")
    op.create_table(
        "sign_in_tries",
        sa.Column("id", sa.BigInteger, primary_key=True),
        sa.Column("name", sa.Text, nullable=False),
        sa.Column("client", sa.Text, nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False, server_default=sa.func.now()),
    )
