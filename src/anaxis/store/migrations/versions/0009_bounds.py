"""Nothing that cannot be shown can be kept: frames and rates of shots, sizes of film backs within bounds."""

from alembic import op

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None

# As in core/bounds.py when this was written: a migration stays what it was.
_ABOVE, _BELOW = "split_part(rate, '/', 1)::numeric", "split_part(rate, '/', 2)::numeric"
RATE = (
    f"rate IS NULL OR CASE WHEN rate ~ '^[0-9]{{1,12}}/[0-9]{{1,7}}$' THEN {_BELOW} BETWEEN 1 AND 1000000 AND "
    f"{_ABOVE} BETWEEN {_BELOW} / 100 AND {_BELOW} * 100000 ELSE false END"
)
CHECKS = {
    "shots": {
        "frames_that_can_be": "abs(first_frame) <= 10000000 AND abs(last_frame) <= 10000000",
        "frames_in_order": "last_frame >= first_frame",
        "a_rate_that_can_be": RATE,
    },
    "saved_film_backs": {
        "sizes_that_can_be": "width_mm > 0 AND width_mm <= 1e9 AND height_mm > 0 AND height_mm <= 1e9"
    },
}


def upgrade() -> None:
    # NaN is above every number here, so abs() finds it too.
    op.execute("UPDATE shots SET first_frame = NULL WHERE NOT abs(first_frame) <= 10000000")
    op.execute("UPDATE shots SET last_frame = NULL WHERE NOT abs(last_frame) <= 10000000 OR last_frame < first_frame")
    op.execute(f"UPDATE shots SET rate = NULL WHERE NOT ({RATE})")
    op.execute(
        "DELETE FROM saved_film_backs WHERE NOT (width_mm > 0 AND width_mm <= 1e9 AND height_mm > 0 AND height_mm <= 1e9)"
    )
    for table, checks in CHECKS.items():
        for name, check in checks.items():
            op.create_check_constraint(name, table, check)


def downgrade() -> None:
    for table, checks in CHECKS.items():
        for name in checks:
            op.drop_constraint(name, table)
