"""For a store of many shows: the history by month and show, the person who saved each version, indexes for queries of a few rows."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

from anaxis.store.partitions import make_partitions

revision = "0032"
down_revision = "0031"
branch_labels = None
depends_on = None

_CAMERAS = "SELECT c.id, s.show_id FROM cameras c JOIN shots s ON s.id = c.shot_id"
_VERSIONS = f"SELECT v.id, c.show_id FROM versions v JOIN ({_CAMERAS}) c ON c.id = v.camera_id"
# The show of a row, by the table that an entry is about.
_SHOW_OF = {
    "shows": "SELECT id, id AS show_id FROM shows",
    **dict.fromkeys(
        ("shots", "plan_targets", "runs", "webhooks", "exchange_clients", "exchange_links", "exchange_recordings",
         "exchange_clashes", "media_root_shows"),
        "SELECT id, show_id FROM {table}",
    ),
    "cameras": _CAMERAS,
    "versions": _VERSIONS,
    **dict.fromkeys(
        ("deliveries", "returns", "stills", "screenshots", "jobs"),
        f"SELECT t.id, v.show_id FROM {{table}} t JOIN ({_VERSIONS}) v ON v.id = t.version_id",
    ),
    "plates": "SELECT p.id, s.show_id FROM plates p JOIN shots s ON s.id = p.shot_id",
    "exchange_cameras": "SELECT t.id, c.show_id FROM exchange_cameras t JOIN exchange_clients c ON c.id = t.client_id",
}  # fmt: skip

_SHOWS = " UNION ALL ".join(
    f"SELECT '{table}' AS kind, id, show_id FROM ({query.format(table=table)}) AS of_{table}"
    for table, query in _SHOW_OF.items()
)
# Servers of the version before continue during an upgrade, and write entries without a show.
_SHOW_OF_ENTRY = f"""
CREATE FUNCTION show_of_entry() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
    NEW.show_id := (SELECT o.show_id FROM ({_SHOWS}) o WHERE o.kind = NEW.kind AND o.id = NEW.about_id);
    RETURN NEW;
END $$;
CREATE TRIGGER history_show BEFORE INSERT ON history FOR EACH ROW WHEN (NEW.show_id IS NULL) EXECUTE FUNCTION show_of_entry();
"""

_HISTORY = """
CREATE TABLE history (
    id bigint NOT NULL DEFAULT nextval('history_id_seq'),
    at timestamptz NOT NULL DEFAULT now(),
    actor text NOT NULL,
    action text NOT NULL,
    kind text NOT NULL,
    about_id bigint NOT NULL,
    said text NOT NULL DEFAULT '',
    detail jsonb NOT NULL DEFAULT '{}',
    show_id integer,
    PRIMARY KEY (id, at)
) PARTITION BY RANGE (at)
"""
_INDEXES = {
    "history": {
        "history_of_show": "(show_id, at, id)",
        "history_about": "(kind, about_id)",
        "history_at": "(at, id)",
        "history_of_actor": "(actor, at, id)",
        "history_of_action": "(action, at, id)",
        "history_of_package": "(package_of_entry(kind, said, detail), at, id) WHERE kind IN ('deliveries', 'packages')",
    },
    "jobs": {
        "jobs_open": "(id) WHERE state IN ('waiting', 'running', 'stopping')",
        "jobs_by_kind": "(kind, state)",
        "jobs_of_worker": "(worker_id) WHERE worker_id IS NOT NULL",
    },
    "webhook_calls": {"webhook_calls_waiting": "(id) WHERE state = 'waiting'"},
    "exchange_changes": {"exchange_changes_held": "(acknowledged_at) WHERE direction = 'out'"},
    "deliveries": {"deliveries_of_package": "((profile ->> 'key'), id)"},
    "source_files": {"source_files_not_kept": "(created_at) WHERE NOT kept"},
    "version_inputs": {"version_inputs_of_versions": "(version_id) WHERE input_id IS NOT NULL"},
    "cameras": {
        "cameras_by_head": "(head_id)",
        "cameras_missing": "(missing_from_id) WHERE missing_from_id IS NOT NULL",
    },
    "versions": {"versions_of_parent": "(parent_id) WHERE parent_id IS NOT NULL"},
    "made_files": {"made_files_at": "(created_at)"},
    "plates": {"plates_at": "(created_at)"},
    "notices": {"notices_read": "(read_at) WHERE read_at IS NOT NULL"},
}
# The key of the package that an entry is about: a package's own, or the one that a delivery went to.
_PACKAGE = """
CREATE FUNCTION package_of_entry(kind text, said text, detail jsonb) RETURNS text LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
    SELECT CASE kind WHEN 'deliveries' THEN split_part(said, ',', 1) WHEN 'packages' THEN detail ->> 'key' END
$$
"""
# Show 0 stands for what belongs to no show, -1 for what administrators alone may read.
_WORDS_OF = """
    SELECT DISTINCT CASE WHEN kind IN ('people', 'tokens', 'webhooks', 'media_root_shows') THEN -1 ELSE coalesce(show_id, 0) END AS of,
    what, word FROM {entries}, LATERAL (VALUES ('actor', actor), ('action', action)) AS words (what, word)
"""
# The words by which entries may be filtered, kept by the database: reading them from the history would read all of it. Two transactions
# that both use a new word do not wait for each other: the second leaves the word to the first. If the first one fails, the next entry
# with the word adds it.
_WORDS = f"""
CREATE TABLE history_words (show_id integer NOT NULL, what text NOT NULL, word text NOT NULL, PRIMARY KEY (show_id, what, word));
CREATE FUNCTION keep_history_words() RETURNS trigger LANGUAGE plpgsql AS $$ DECLARE used record; BEGIN
    FOR used IN SELECT * FROM ({_WORDS_OF.format(entries="added")}) w
    WHERE NOT EXISTS (SELECT FROM history_words h WHERE h.show_id = w.of AND h.what = w.what AND h.word = w.word) LOOP
        IF pg_try_advisory_xact_lock(7204120, hashtext(concat_ws(' ', used.of, used.what, used.word))) THEN
            INSERT INTO history_words VALUES (used.of, used.what, used.word) ON CONFLICT DO NOTHING;
        END IF;
    END LOOP;
    RETURN NULL;
END $$;
"""
_WORDS_TRIGGER = """
CREATE TRIGGER history_words AFTER INSERT ON history REFERENCING NEW TABLE AS added FOR EACH STATEMENT EXECUTE FUNCTION keep_history_words()
"""
_IMMUTABLE = """
CREATE TRIGGER history_immutable BEFORE DELETE OR UPDATE ON history FOR EACH ROW EXECUTE FUNCTION refuse_update()
"""
# Used by anaxis.store.search. PostgreSQL assumes that its own text functions cost nothing: it would split the names of a whole table into
# words instead of using the index. These functions state a cost.
_SEARCH = r"""
CREATE FUNCTION name_words(name text) RETURNS tsvector LANGUAGE plpgsql IMMUTABLE PARALLEL SAFE COST 400 AS $$ BEGIN
    RETURN to_tsvector('simple'::regconfig, translate(name, '_./\:|-', '       '));
END $$;
CREATE FUNCTION findings_words(findings jsonb) RETURNS tsvector LANGUAGE plpgsql IMMUTABLE PARALLEL SAFE COST 1000 AS $$ BEGIN
    RETURN jsonb_to_tsvector('simple'::regconfig, findings, '["string"]'::jsonb);
END $$;
"""
_SEARCHED = ("shots", "cameras", "source_files", "delivery_files", "people")
_NAME = r"to_tsvector('simple'::regconfig, translate(name, '_./\:|-', '       '))"
_FINDINGS = """jsonb_to_tsvector('simple'::regconfig, findings, '["string"]'::jsonb)"""
# Tables whose rows change often: they are vacuumed after some hundred dead rows, not after a fifth of the table, and their pages have
# free space for the next state of a row.
_BUSY = ("jobs", "workers", "presence", "procrastinate_jobs", "procrastinate_events", "procrastinate_workers")
_VACUUM = "autovacuum_vacuum_scale_factor = 0.01, autovacuum_vacuum_threshold = 500, autovacuum_analyze_scale_factor = 0.05, fillfactor = 80"
_SETTINGS = ", ".join(setting.split(" = ")[0] for setting in _VACUUM.split(", "))
_COLUMNS = "id, at, actor, action, kind, about_id, said, detail"


def upgrade() -> None:
    op.execute("ALTER TABLE history RENAME TO history_before")
    for name in ("history_pkey", "history_about", "history_at"):
        op.execute(f"ALTER INDEX {name} RENAME TO {name}_before")
    op.execute("ALTER SEQUENCE history_id_seq OWNED BY NONE")
    op.execute(_HISTORY)
    op.execute("ALTER SEQUENCE history_id_seq OWNED BY history.id")
    make_partitions(op.get_bind(), op.get_bind().execute(sa.text("SELECT min(at) FROM history_before")).scalar())
    op.execute(
        f"INSERT INTO history ({_COLUMNS}, show_id) SELECT {', '.join('h.' + c for c in _COLUMNS.split(', '))}, o.show_id "
        f"FROM history_before h LEFT JOIN ({_SHOWS}) o ON o.kind = h.kind AND o.id = h.about_id ORDER BY h.id"
    )
    op.execute(_WORDS)
    op.execute(f"INSERT INTO history_words {_WORDS_OF.format(entries='history')}")
    op.add_column("versions", sa.Column("actor", sa.Text(), nullable=False, server_default=""))
    op.add_column("jobs", sa.Column("revision", sa.Text(), nullable=False, server_default=""))
    op.execute("ALTER TABLE versions DISABLE TRIGGER versions_immutable")
    op.execute(
        "UPDATE versions v SET actor = h.actor FROM (SELECT DISTINCT ON (about_id) about_id, actor FROM history_before "
        "WHERE kind = 'versions' ORDER BY about_id, id) h WHERE h.about_id = v.id"
    )
    op.execute("ALTER TABLE versions ENABLE TRIGGER versions_immutable")
    op.execute("DROP TABLE history_before")
    op.execute(_PACKAGE)
    for table, indexes in _INDEXES.items():
        for name, what in indexes.items():
            op.execute(f"CREATE INDEX {name} ON {table} {what}")
    # The oldest revision of a program that works with these tables: its highest row counts. A migration that takes away what older
    # programs need adds a row.
    op.create_table("oldest_programs", sa.Column("revision", sa.Text(), primary_key=True))
    op.execute("INSERT INTO oldest_programs VALUES ('0032')")
    for table in _BUSY:
        op.execute(f"ALTER TABLE IF EXISTS {table} SET ({_VACUUM})")
    op.execute(_SEARCH)
    _search_by("name_words(name)", "findings_words(findings)")
    for table in _SEARCHED:
        op.execute(f"CREATE INDEX {table}_very_name ON {table} (lower(name))")
    op.execute(_WORDS_TRIGGER)
    op.execute(_SHOW_OF_ENTRY)
    op.execute(_IMMUTABLE)


def _search_by(name: str, findings: str) -> None:
    for table in _SEARCHED:
        op.execute(f"DROP INDEX {table}_search")
        op.execute(f"CREATE INDEX {table}_search ON {table} USING gin (({name}))")
    op.execute("DROP INDEX versions_findings_search")
    op.execute(f"CREATE INDEX versions_findings_search ON versions USING gin (({findings}))")


def downgrade() -> None:
    op.drop_table("oldest_programs")
    for table in _BUSY:
        op.execute(f"ALTER TABLE IF EXISTS {table} RESET ({_SETTINGS})")
    for table in _SEARCHED:
        op.execute(f"DROP INDEX {table}_very_name")
    _search_by(_NAME, _FINDINGS)
    op.execute("DROP FUNCTION name_words, findings_words")
    op.execute("ALTER TABLE history RENAME TO history_by_month")
    op.execute("ALTER SEQUENCE history_id_seq OWNED BY NONE")
    op.execute("DROP INDEX history_about, history_at")
    op.execute("ALTER INDEX history_pkey RENAME TO history_by_month_pkey")
    op.execute(_HISTORY.replace("show_id integer,\n    PRIMARY KEY (id, at)", "PRIMARY KEY (id)").replace(") PARTITION BY RANGE (at)", ")"))  # fmt: skip
    op.execute("ALTER SEQUENCE history_id_seq OWNED BY history.id")
    op.execute(f"INSERT INTO history SELECT {_COLUMNS} FROM history_by_month ORDER BY id")
    op.execute("DROP TABLE history_by_month, history_words")
    op.execute("DROP FUNCTION keep_history_words, package_of_entry, show_of_entry")
    op.execute("CREATE INDEX history_about ON history (kind, about_id)")
    op.execute("CREATE INDEX history_at ON history (at)")
    op.execute(_IMMUTABLE)
    op.drop_column("versions", "actor")
    op.drop_column("jobs", "revision")
    for table, indexes in _INDEXES.items():
        for name in indexes:
            if table != "history":
                op.execute(f"DROP INDEX IF EXISTS {name}")
