"""Shows, shots, source files, cameras, versions, deliveries and their files."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None

_IMMUTABLE = ("versions", "deliveries", "delivery_files")
# Compressed already (npz), or not worth the time: kept out of line as they are.
_BINARY = (
    ("source_files", "data"),
    ("source_files", "scene"),
    ("versions", "track"),
    ("deliveries", "proof"),
    ("delivery_files", "data"),
)


def _id() -> sa.Column:
    return sa.Column("id", sa.Integer, primary_key=True)


def _made() -> sa.Column:
    return sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False)


def _ref(name: str, target: str, **kw: object) -> sa.Column:
    return sa.Column(name, sa.Integer, sa.ForeignKey(f"{target}.id"), nullable=False, **kw)


def _text(name: str, **kw: object) -> sa.Column:
    return sa.Column(name, sa.Text, nullable=False, **kw)


def _need(name: str, kind: object) -> sa.Column:
    return sa.Column(name, kind, nullable=False)


def upgrade() -> None:
    op.create_table("shows", _id(), _text("name", unique=True), _made())
    op.create_table(
        "shots", _id(), _ref("show_id", "shows"), _text("name"), _made(), sa.UniqueConstraint("show_id", "name")
    )
    op.create_table(
        "source_files", _id(), _text("name"), _text("sha256", index=True), _need("size", sa.BigInteger),
        _need("kept", sa.Boolean), _made(), _need("data", sa.LargeBinary), _need("scene", sa.LargeBinary),
    )  # fmt: skip
    op.create_table(
        "cameras", _id(), _ref("shot_id", "shots"), _text("name"), _made(), sa.UniqueConstraint("shot_id", "name")
    )
    op.create_table(
        "versions", _id(), _ref("camera_id", "cameras"), _need("number", sa.Integer),
        _ref("source_file_id", "source_files"), _text("camera_path"), _need("width_px", sa.Integer),
        _need("height_px", sa.Integer), _need("pixel_aspect", sa.Float), _need("image_guessed", sa.Boolean),
        _text("source_fit"), _need("fit_guessed", sa.Boolean), _need("facts", JSONB),
        _need("findings", JSONB), _made(), _need("track", sa.LargeBinary),
        sa.UniqueConstraint("camera_id", "number"),
    )  # fmt: skip
    op.create_table(
        "deliveries", _id(), _ref("version_id", "versions", index=True), _need("profile", JSONB),
        _text("format"), _need("notes", JSONB), _need("max_px", sa.Float), _need("worst_frame", sa.Float),
        _need("median_px", sa.Float), _text("grade"), _need("test_points", sa.Integer), _made(),
        _need("proof", sa.LargeBinary),
    )  # fmt: skip
    op.create_table(
        "delivery_files", _id(), _ref("delivery_id", "deliveries"), _text("name"), _text("sha256"),
        _need("size", sa.BigInteger), _need("data", sa.LargeBinary), sa.UniqueConstraint("delivery_id", "name"),
    )  # fmt: skip
    for table, column in _BINARY:
        op.execute(f"ALTER TABLE {table} ALTER COLUMN {column} SET STORAGE EXTERNAL")
    op.execute(
        """
        CREATE FUNCTION refuse_update() RETURNS trigger LANGUAGE plpgsql AS
        $$ BEGIN RAISE EXCEPTION 'rows of % are immutable once kept', TG_TABLE_NAME; END $$
        """
    )
    for table in _IMMUTABLE:
        op.execute(
            f"CREATE TRIGGER {table}_immutable BEFORE UPDATE ON {table} FOR EACH ROW EXECUTE FUNCTION refuse_update()"
        )


def downgrade() -> None:
    for table in ("delivery_files", "deliveries", "versions", "cameras", "source_files", "shots", "shows"):
        op.drop_table(table)
    op.execute("DROP FUNCTION refuse_update()")
