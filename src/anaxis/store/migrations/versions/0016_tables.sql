-- The tables at revision 0016, as the first sixteen migrations made them. procrastinate's own come from its package.
CREATE FUNCTION refuse_update() RETURNS trigger
    LANGUAGE plpgsql
    AS $$ BEGIN RAISE EXCEPTION 'rows of % are immutable once kept', TG_TABLE_NAME; END $$;
CREATE TABLE answers_given (
    who text NOT NULL,
    key text NOT NULL,
    asked text NOT NULL,
    status integer,
    body bytea,
    created_at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE cameras (
    id serial NOT NULL,
    shot_id integer NOT NULL,
    name text NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    head_id integer,
    made_here boolean DEFAULT false NOT NULL,
    missing_from_id integer,
    removed_at timestamp with time zone
);
CREATE TABLE contents (
    sha256 text NOT NULL,
    data bytea NOT NULL,
    used_at timestamp with time zone DEFAULT now() NOT NULL
);
ALTER TABLE ONLY contents ALTER COLUMN data SET STORAGE EXTERNAL;
CREATE TABLE deliveries (
    id serial NOT NULL,
    version_id integer NOT NULL,
    profile jsonb NOT NULL,
    format text NOT NULL,
    notes jsonb NOT NULL,
    max_px double precision NOT NULL,
    worst_frame double precision NOT NULL,
    median_px double precision NOT NULL,
    grade text NOT NULL,
    test_points integer NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    proof bytea NOT NULL,
    options jsonb DEFAULT '{}'::jsonb NOT NULL,
    arrival jsonb DEFAULT '{}'::jsonb NOT NULL
);
ALTER TABLE ONLY deliveries ALTER COLUMN proof SET STORAGE EXTERNAL;
CREATE TABLE delivery_files (
    id serial NOT NULL,
    delivery_id integer NOT NULL,
    name text NOT NULL,
    sha256 text NOT NULL,
    size bigint NOT NULL
);
CREATE TABLE derivations (
    source_file_id integer NOT NULL,
    kind text NOT NULL,
    settings jsonb NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE exchange_blocks (
    recording_id integer NOT NULL,
    number bigint NOT NULL,
    data bytea NOT NULL
);
CREATE TABLE exchange_cameras (
    id serial NOT NULL,
    party_id integer NOT NULL,
    key text NOT NULL,
    name text NOT NULL,
    first double precision NOT NULL,
    last double precision NOT NULL,
    rate text NOT NULL,
    width_px integer NOT NULL,
    height_px integer NOT NULL,
    pixel_aspect double precision NOT NULL,
    held bytea,
    held_effect bigint,
    camera_id integer,
    gone_at timestamp with time zone,
    created_at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE exchange_changes (
    id bigserial NOT NULL,
    party_id integer NOT NULL,
    shared_id integer,
    way text NOT NULL,
    number bigint NOT NULL,
    base bigint NOT NULL,
    replaces boolean DEFAULT false NOT NULL,
    entry jsonb,
    data bytea NOT NULL,
    wire bytea,
    back bytea,
    effect bigint,
    frames integer DEFAULT 0 NOT NULL,
    link_id integer,
    cause_id bigint,
    said text DEFAULT ''::text NOT NULL,
    created_at timestamp with time zone DEFAULT clock_timestamp() NOT NULL,
    acknowledged_at timestamp with time zone
);
CREATE TABLE exchange_clashes (
    id serial NOT NULL,
    show_id integer NOT NULL,
    shared_id integer NOT NULL,
    link_id integer,
    out_id bigint NOT NULL,
    groups jsonb DEFAULT '[]'::jsonb NOT NULL,
    frames jsonb DEFAULT '[]'::jsonb NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    closed_at timestamp with time zone,
    chosen text DEFAULT ''::text NOT NULL
);
CREATE SEQUENCE exchange_effects
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1;
CREATE TABLE exchange_links (
    id serial NOT NULL,
    show_id integer NOT NULL,
    first_id integer NOT NULL,
    second_id integer NOT NULL,
    both_ways boolean NOT NULL,
    rule text NOT NULL,
    groups jsonb DEFAULT '[]'::jsonb NOT NULL,
    "offset" double precision NOT NULL,
    follow boolean DEFAULT false NOT NULL,
    every_s integer DEFAULT 0 NOT NULL,
    moment_at timestamp with time zone,
    moment_effect bigint DEFAULT '0'::bigint NOT NULL,
    actor text NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    stopped_at timestamp with time zone
);
CREATE TABLE exchange_parties (
    id serial NOT NULL,
    show_id integer NOT NULL,
    client text NOT NULL,
    kind text DEFAULT 'package'::text NOT NULL,
    name text NOT NULL,
    profile jsonb DEFAULT '{}'::jsonb NOT NULL,
    actor text NOT NULL,
    connection text,
    connected_at timestamp with time zone,
    seen_at timestamp with time zone DEFAULT now() NOT NULL,
    heard bigint DEFAULT '0'::bigint NOT NULL,
    sent bigint DEFAULT '0'::bigint NOT NULL,
    applied bigint DEFAULT '0'::bigint NOT NULL,
    selected text,
    scene jsonb DEFAULT '{}'::jsonb NOT NULL,
    said text DEFAULT ''::text NOT NULL,
    removed_at timestamp with time zone,
    created_at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE exchange_pulled (
    version_id integer NOT NULL,
    shared_id integer NOT NULL,
    data bytea NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE exchange_recordings (
    id serial NOT NULL,
    show_id integer NOT NULL,
    party_id integer NOT NULL,
    name text NOT NULL,
    actor text NOT NULL,
    width_px integer NOT NULL,
    height_px integer NOT NULL,
    samples integer DEFAULT 0 NOT NULL,
    settings jsonb DEFAULT '{}'::jsonb NOT NULL,
    camera_id integer,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    stopped_at timestamp with time zone,
    ended_at timestamp with time zone
);
CREATE TABLE history (
    id bigserial NOT NULL,
    at timestamp with time zone DEFAULT now() NOT NULL,
    actor text NOT NULL,
    action text NOT NULL,
    kind text NOT NULL,
    about_id bigint NOT NULL,
    said text DEFAULT ''::text NOT NULL,
    detail jsonb DEFAULT '{}'::jsonb NOT NULL
);
CREATE TABLE jobs (
    id serial NOT NULL,
    kind text NOT NULL,
    version_id integer NOT NULL,
    params jsonb DEFAULT '{}'::jsonb NOT NULL,
    state text DEFAULT 'waiting'::text NOT NULL,
    share double precision DEFAULT '0'::double precision NOT NULL,
    said text DEFAULT ''::text NOT NULL,
    result jsonb DEFAULT '{}'::jsonb NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    run_id integer,
    target_id integer,
    worker_id integer,
    begun_at timestamp with time zone,
    ended_at timestamp with time zone,
    actor text DEFAULT 'local'::text NOT NULL
);
CREATE TABLE made_files (
    id serial NOT NULL,
    name text NOT NULL,
    data bytea NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE one_time_links (
    digest text NOT NULL,
    person_id integer NOT NULL,
    expires_at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE packages (
    id serial NOT NULL,
    key text NOT NULL,
    number integer NOT NULL,
    document jsonb NOT NULL,
    change text DEFAULT ''::text NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE people (
    id serial NOT NULL,
    name text NOT NULL,
    password text,
    everywhere integer DEFAULT 0 NOT NULL,
    disabled_at timestamp with time zone,
    created_at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE plan_targets (
    id serial NOT NULL,
    show_id integer NOT NULL,
    package text NOT NULL,
    format text NOT NULL,
    options jsonb DEFAULT '{}'::jsonb NOT NULL,
    recipe text DEFAULT ''::text NOT NULL,
    shots jsonb,
    removed_at timestamp with time zone,
    created_at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE plate_proxies (
    plate_id integer NOT NULL,
    number integer NOT NULL,
    look text NOT NULL,
    data bytea NOT NULL
);
CREATE TABLE plates (
    id serial NOT NULL,
    shot_id integer NOT NULL,
    name text NOT NULL,
    kind text NOT NULL,
    root text NOT NULL,
    folder text NOT NULL,
    files jsonb NOT NULL,
    facts jsonb NOT NULL,
    seen jsonb DEFAULT '{}'::jsonb NOT NULL,
    frame_offset integer DEFAULT 0 NOT NULL,
    view text DEFAULT 'plain'::text NOT NULL,
    stops double precision DEFAULT '0'::double precision NOT NULL,
    removed_at timestamp with time zone,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    CONSTRAINT known_kind_of_plate CHECK ((kind = ANY (ARRAY['as shot'::text, 'undistorted'::text, 'equirectangular'::text])))
);
CREATE TABLE presence (
    camera_id integer NOT NULL,
    who text NOT NULL,
    seen_at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE returns (
    id serial NOT NULL,
    version_id integer NOT NULL,
    profile jsonb NOT NULL,
    name text NOT NULL,
    sha256 text NOT NULL,
    data bytea NOT NULL,
    track bytea NOT NULL,
    max_px double precision NOT NULL,
    worst_frame double precision NOT NULL,
    median_px double precision NOT NULL,
    grade text NOT NULL,
    missing integer DEFAULT 0 NOT NULL,
    diagnosis jsonb DEFAULT '{}'::jsonb NOT NULL,
    proof bytea NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE roles_in_shows (
    person_id integer NOT NULL,
    show_id integer NOT NULL,
    role integer NOT NULL
);
CREATE TABLE runs (
    id serial NOT NULL,
    show_id integer NOT NULL,
    actor text NOT NULL,
    recipes jsonb DEFAULT '{}'::jsonb NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE saved_film_backs (
    id serial NOT NULL,
    name text NOT NULL,
    width_mm double precision NOT NULL,
    height_mm double precision NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    CONSTRAINT sizes_that_can_be CHECK (((width_mm > (0)::double precision) AND (width_mm <= ('1000000000'::numeric)::double precision) AND (height_mm > (0)::double precision) AND (height_mm <= ('1000000000'::numeric)::double precision)))
);
CREATE TABLE saved_layouts (
    id serial NOT NULL,
    name text NOT NULL,
    layout jsonb NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE saved_recipes (
    id serial NOT NULL,
    name text NOT NULL,
    operations jsonb NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    number integer DEFAULT 1 NOT NULL
);
CREATE TABLE server_keys (
    id serial NOT NULL,
    key bytea NOT NULL
);
CREATE TABLE shots (
    id serial NOT NULL,
    show_id integer NOT NULL,
    name text NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    first_frame double precision,
    last_frame double precision,
    rate text,
    archived_at timestamp with time zone,
    CONSTRAINT a_rate_that_can_be CHECK (((rate IS NULL) OR
CASE
    WHEN (rate ~ '^[0-9]{1,12}/[0-9]{1,7}$'::text) THEN ((((split_part(rate, '/'::text, 2))::numeric >= (1)::numeric) AND ((split_part(rate, '/'::text, 2))::numeric <= (1000000)::numeric)) AND (((split_part(rate, '/'::text, 1))::numeric >= ((split_part(rate, '/'::text, 2))::numeric / (100)::numeric)) AND ((split_part(rate, '/'::text, 1))::numeric <= ((split_part(rate, '/'::text, 2))::numeric * (100000)::numeric))))
    ELSE false
END)),
    CONSTRAINT frames_in_order CHECK ((last_frame >= first_frame)),
    CONSTRAINT frames_that_can_be CHECK (((abs(first_frame) <= (10000000)::double precision) AND (abs(last_frame) <= (10000000)::double precision)))
);
CREATE TABLE shows (
    id serial NOT NULL,
    name text NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    archived_at timestamp with time zone,
    rule text DEFAULT ''::text NOT NULL
);
CREATE TABLE sign_in_tries (
    id bigserial NOT NULL,
    name text NOT NULL,
    client text NOT NULL,
    at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE sign_ins (
    digest text NOT NULL,
    person_id integer NOT NULL,
    browser text DEFAULT ''::text NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    seen_at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE source_files (
    id serial NOT NULL,
    name text NOT NULL,
    sha256 text NOT NULL,
    size bigint NOT NULL,
    kept boolean NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    draft jsonb DEFAULT '{}'::jsonb NOT NULL,
    layout jsonb,
    scene_sha256 text NOT NULL,
    actor text DEFAULT 'local'::text NOT NULL
);
CREATE TABLE stills (
    id serial NOT NULL,
    version_id integer NOT NULL,
    frame double precision NOT NULL,
    our_name text NOT NULL,
    their_name text NOT NULL,
    ours bytea NOT NULL,
    theirs bytea NOT NULL,
    measured jsonb DEFAULT '{}'::jsonb NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE tokens (
    id serial NOT NULL,
    person_id integer NOT NULL,
    name text NOT NULL,
    digest text NOT NULL,
    role integer NOT NULL,
    show_id integer,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    expires_at timestamp with time zone DEFAULT now() NOT NULL,
    revoked_at timestamp with time zone,
    used_at timestamp with time zone
);
CREATE TABLE version_inputs (
    id serial NOT NULL,
    version_id integer NOT NULL,
    place integer NOT NULL,
    role text NOT NULL,
    source_file_id integer,
    camera_path text,
    input_id integer,
    CONSTRAINT one_thing_an_input CHECK ((((input_id IS NULL) = ((source_file_id IS NOT NULL) AND (camera_path IS NOT NULL))) AND (input_id IS DISTINCT FROM version_id)))
);
CREATE TABLE versions (
    id serial NOT NULL,
    camera_id integer NOT NULL,
    number integer NOT NULL,
    width_px integer NOT NULL,
    height_px integer NOT NULL,
    pixel_aspect double precision NOT NULL,
    image_guessed boolean NOT NULL,
    source_fit text NOT NULL,
    fit_guessed boolean NOT NULL,
    facts jsonb NOT NULL,
    findings jsonb NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    track bytea NOT NULL,
    take integer DEFAULT 1 NOT NULL,
    edit integer DEFAULT 0 NOT NULL,
    parent_id integer,
    recipe jsonb DEFAULT '[]'::jsonb NOT NULL,
    change text DEFAULT ''::text NOT NULL
);
ALTER TABLE ONLY versions ALTER COLUMN track SET STORAGE EXTERNAL;
CREATE TABLE webhook_calls (
    id serial NOT NULL,
    webhook_id integer NOT NULL,
    event text NOT NULL,
    about jsonb NOT NULL,
    state text DEFAULT 'waiting'::text NOT NULL,
    tries integer DEFAULT 0 NOT NULL,
    said text DEFAULT ''::text NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    ended_at timestamp with time zone
);
CREATE TABLE webhooks (
    id serial NOT NULL,
    show_id integer NOT NULL,
    url text NOT NULL,
    events jsonb NOT NULL,
    secret text NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    removed_at timestamp with time zone
);
CREATE TABLE workers (
    id serial NOT NULL,
    host text NOT NULL,
    pid integer NOT NULL,
    at_once integer DEFAULT 1 NOT NULL,
    begun_at timestamp with time zone DEFAULT now() NOT NULL,
    heard_at timestamp with time zone DEFAULT now() NOT NULL
);
ALTER TABLE ONLY answers_given ADD CONSTRAINT answers_given_pkey PRIMARY KEY (who, key);
ALTER TABLE ONLY cameras ADD CONSTRAINT cameras_pkey PRIMARY KEY (id);
ALTER TABLE ONLY cameras ADD CONSTRAINT cameras_shot_id_name_key UNIQUE (shot_id, name);
ALTER TABLE ONLY contents ADD CONSTRAINT contents_pkey PRIMARY KEY (sha256);
ALTER TABLE ONLY deliveries ADD CONSTRAINT deliveries_pkey PRIMARY KEY (id);
ALTER TABLE ONLY delivery_files ADD CONSTRAINT delivery_files_delivery_id_name_key UNIQUE (delivery_id, name);
ALTER TABLE ONLY delivery_files ADD CONSTRAINT delivery_files_pkey PRIMARY KEY (id);
ALTER TABLE ONLY derivations ADD CONSTRAINT derivations_pkey PRIMARY KEY (source_file_id);
ALTER TABLE ONLY exchange_blocks ADD CONSTRAINT exchange_blocks_pkey PRIMARY KEY (recording_id, number);
ALTER TABLE ONLY exchange_cameras ADD CONSTRAINT exchange_cameras_party_id_key_key UNIQUE (party_id, key);
ALTER TABLE ONLY exchange_cameras ADD CONSTRAINT exchange_cameras_pkey PRIMARY KEY (id);
ALTER TABLE ONLY exchange_changes ADD CONSTRAINT exchange_changes_party_id_way_number_key UNIQUE (party_id, way, number);
ALTER TABLE ONLY exchange_changes ADD CONSTRAINT exchange_changes_pkey PRIMARY KEY (id);
ALTER TABLE ONLY exchange_clashes ADD CONSTRAINT exchange_clashes_pkey PRIMARY KEY (id);
ALTER TABLE ONLY exchange_links ADD CONSTRAINT exchange_links_pkey PRIMARY KEY (id);
ALTER TABLE ONLY exchange_parties ADD CONSTRAINT exchange_parties_pkey PRIMARY KEY (id);
ALTER TABLE ONLY exchange_parties ADD CONSTRAINT exchange_parties_show_id_client_key UNIQUE (show_id, client);
ALTER TABLE ONLY exchange_pulled ADD CONSTRAINT exchange_pulled_pkey PRIMARY KEY (version_id);
ALTER TABLE ONLY exchange_recordings ADD CONSTRAINT exchange_recordings_pkey PRIMARY KEY (id);
ALTER TABLE ONLY history ADD CONSTRAINT history_pkey PRIMARY KEY (id);
ALTER TABLE ONLY jobs ADD CONSTRAINT jobs_pkey PRIMARY KEY (id);
ALTER TABLE ONLY made_files ADD CONSTRAINT made_files_pkey PRIMARY KEY (id);
ALTER TABLE ONLY saved_recipes ADD CONSTRAINT one_recipe_of_a_number UNIQUE (name, number);
ALTER TABLE ONLY one_time_links ADD CONSTRAINT one_time_links_pkey PRIMARY KEY (digest);
ALTER TABLE ONLY packages ADD CONSTRAINT packages_key_number_key UNIQUE (key, number);
ALTER TABLE ONLY packages ADD CONSTRAINT packages_pkey PRIMARY KEY (id);
ALTER TABLE ONLY people ADD CONSTRAINT people_pkey PRIMARY KEY (id);
ALTER TABLE ONLY plan_targets ADD CONSTRAINT plan_targets_pkey PRIMARY KEY (id);
ALTER TABLE ONLY plate_proxies ADD CONSTRAINT plate_proxies_pkey PRIMARY KEY (plate_id, number, look);
ALTER TABLE ONLY plates ADD CONSTRAINT plates_pkey PRIMARY KEY (id);
ALTER TABLE ONLY presence ADD CONSTRAINT presence_pkey PRIMARY KEY (camera_id, who);
ALTER TABLE ONLY returns ADD CONSTRAINT returns_pkey PRIMARY KEY (id);
ALTER TABLE ONLY roles_in_shows ADD CONSTRAINT roles_in_shows_pkey PRIMARY KEY (person_id, show_id);
ALTER TABLE ONLY runs ADD CONSTRAINT runs_pkey PRIMARY KEY (id);
ALTER TABLE ONLY saved_film_backs ADD CONSTRAINT saved_film_backs_name_key UNIQUE (name);
ALTER TABLE ONLY saved_film_backs ADD CONSTRAINT saved_film_backs_pkey PRIMARY KEY (id);
ALTER TABLE ONLY saved_layouts ADD CONSTRAINT saved_layouts_name_key UNIQUE (name);
ALTER TABLE ONLY saved_layouts ADD CONSTRAINT saved_layouts_pkey PRIMARY KEY (id);
ALTER TABLE ONLY saved_recipes ADD CONSTRAINT saved_recipes_pkey PRIMARY KEY (id);
ALTER TABLE ONLY server_keys ADD CONSTRAINT server_keys_pkey PRIMARY KEY (id);
ALTER TABLE ONLY shots ADD CONSTRAINT shots_pkey PRIMARY KEY (id);
ALTER TABLE ONLY shots ADD CONSTRAINT shots_show_id_name_key UNIQUE (show_id, name);
ALTER TABLE ONLY shows ADD CONSTRAINT shows_name_key UNIQUE (name);
ALTER TABLE ONLY shows ADD CONSTRAINT shows_pkey PRIMARY KEY (id);
ALTER TABLE ONLY sign_in_tries ADD CONSTRAINT sign_in_tries_pkey PRIMARY KEY (id);
ALTER TABLE ONLY sign_ins ADD CONSTRAINT sign_ins_pkey PRIMARY KEY (digest);
ALTER TABLE ONLY source_files ADD CONSTRAINT source_files_pkey PRIMARY KEY (id);
ALTER TABLE ONLY stills ADD CONSTRAINT stills_pkey PRIMARY KEY (id);
ALTER TABLE ONLY tokens ADD CONSTRAINT tokens_digest_key UNIQUE (digest);
ALTER TABLE ONLY tokens ADD CONSTRAINT tokens_pkey PRIMARY KEY (id);
ALTER TABLE ONLY version_inputs ADD CONSTRAINT version_inputs_pkey PRIMARY KEY (id);
ALTER TABLE ONLY version_inputs ADD CONSTRAINT version_inputs_version_id_place_key UNIQUE (version_id, place);
ALTER TABLE ONLY versions ADD CONSTRAINT versions_camera_id_number_key UNIQUE (camera_id, number);
ALTER TABLE ONLY versions ADD CONSTRAINT versions_pkey PRIMARY KEY (id);
ALTER TABLE ONLY webhook_calls ADD CONSTRAINT webhook_calls_pkey PRIMARY KEY (id);
ALTER TABLE ONLY webhooks ADD CONSTRAINT webhooks_pkey PRIMARY KEY (id);
ALTER TABLE ONLY workers ADD CONSTRAINT workers_pkey PRIMARY KEY (id);
CREATE INDEX exchange_changes_by_effect ON exchange_changes USING btree (shared_id, effect);
CREATE INDEX exchange_changes_open ON exchange_changes USING btree (party_id, number) WHERE (acknowledged_at IS NULL);
CREATE INDEX history_about ON history USING btree (kind, about_id);
CREATE INDEX history_at ON history USING btree (at);
CREATE INDEX ix_deliveries_version_id ON deliveries USING btree (version_id);
CREATE INDEX ix_delivery_files_sha256 ON delivery_files USING btree (sha256);
CREATE INDEX ix_exchange_changes_link_id ON exchange_changes USING btree (link_id);
CREATE INDEX ix_exchange_clashes_link_id ON exchange_clashes USING btree (link_id);
CREATE INDEX ix_exchange_clashes_shared_id ON exchange_clashes USING btree (shared_id);
CREATE INDEX ix_exchange_links_show_id ON exchange_links USING btree (show_id);
CREATE INDEX ix_exchange_pulled_shared_id ON exchange_pulled USING btree (shared_id);
CREATE INDEX ix_exchange_recordings_show_id ON exchange_recordings USING btree (show_id);
CREATE INDEX ix_jobs_run_id ON jobs USING btree (run_id);
CREATE INDEX ix_jobs_target_id ON jobs USING btree (target_id);
CREATE INDEX ix_one_time_links_person_id ON one_time_links USING btree (person_id);
CREATE INDEX ix_plan_targets_show_id ON plan_targets USING btree (show_id);
CREATE INDEX ix_plates_shot_id ON plates USING btree (shot_id);
CREATE INDEX ix_returns_version_id ON returns USING btree (version_id);
CREATE INDEX ix_runs_show_id ON runs USING btree (show_id);
CREATE INDEX ix_sign_ins_person_id ON sign_ins USING btree (person_id);
CREATE INDEX ix_source_files_scene_sha256 ON source_files USING btree (scene_sha256);
CREATE INDEX ix_source_files_sha256 ON source_files USING btree (sha256);
CREATE INDEX ix_stills_version_id ON stills USING btree (version_id);
CREATE INDEX ix_tokens_person_id ON tokens USING btree (person_id);
CREATE INDEX ix_version_inputs_input_id ON version_inputs USING btree (input_id);
CREATE INDEX ix_version_inputs_source_file_id ON version_inputs USING btree (source_file_id);
CREATE INDEX ix_version_inputs_version_id ON version_inputs USING btree (version_id);
CREATE INDEX ix_webhook_calls_webhook_id ON webhook_calls USING btree (webhook_id);
CREATE INDEX ix_webhooks_show_id ON webhooks USING btree (show_id);
CREATE INDEX jobs_of_version ON jobs USING btree (version_id);
CREATE UNIQUE INDEX one_person_of_a_name ON people USING btree (lower(name));
CREATE UNIQUE INDEX one_plate_of_a_name ON plates USING btree (shot_id, name) WHERE (removed_at IS NULL);
CREATE UNIQUE INDEX one_target_of_a_kind ON plan_targets USING btree (show_id, package, format) WHERE (removed_at IS NULL);
CREATE INDEX sign_in_tries_at ON sign_in_tries USING btree (at);
CREATE TRIGGER contents_immutable BEFORE UPDATE OF sha256, data ON contents FOR EACH ROW EXECUTE FUNCTION refuse_update();
CREATE TRIGGER deliveries_immutable BEFORE UPDATE ON deliveries FOR EACH ROW EXECUTE FUNCTION refuse_update();
CREATE TRIGGER delivery_files_immutable BEFORE UPDATE ON delivery_files FOR EACH ROW EXECUTE FUNCTION refuse_update();
CREATE TRIGGER derivations_immutable BEFORE UPDATE ON derivations FOR EACH ROW EXECUTE FUNCTION refuse_update();
CREATE TRIGGER history_immutable BEFORE DELETE OR UPDATE ON history FOR EACH ROW EXECUTE FUNCTION refuse_update();
CREATE TRIGGER version_inputs_immutable BEFORE UPDATE ON version_inputs FOR EACH ROW EXECUTE FUNCTION refuse_update();
CREATE TRIGGER versions_immutable BEFORE UPDATE ON versions FOR EACH ROW EXECUTE FUNCTION refuse_update();
ALTER TABLE ONLY cameras ADD CONSTRAINT cameras_head_id_fkey FOREIGN KEY (head_id) REFERENCES versions(id);
ALTER TABLE ONLY cameras ADD CONSTRAINT cameras_missing_from_id_fkey FOREIGN KEY (missing_from_id) REFERENCES source_files(id);
ALTER TABLE ONLY cameras ADD CONSTRAINT cameras_shot_id_fkey FOREIGN KEY (shot_id) REFERENCES shots(id);
ALTER TABLE ONLY deliveries ADD CONSTRAINT deliveries_version_id_fkey FOREIGN KEY (version_id) REFERENCES versions(id);
ALTER TABLE ONLY delivery_files ADD CONSTRAINT delivery_files_delivery_id_fkey FOREIGN KEY (delivery_id) REFERENCES deliveries(id);
ALTER TABLE ONLY delivery_files ADD CONSTRAINT delivery_files_sha256_fkey FOREIGN KEY (sha256) REFERENCES contents(sha256);
ALTER TABLE ONLY derivations ADD CONSTRAINT derivations_source_file_id_fkey FOREIGN KEY (source_file_id) REFERENCES source_files(id);
ALTER TABLE ONLY exchange_blocks ADD CONSTRAINT exchange_blocks_recording_id_fkey FOREIGN KEY (recording_id) REFERENCES exchange_recordings(id);
ALTER TABLE ONLY exchange_cameras ADD CONSTRAINT exchange_cameras_camera_id_fkey FOREIGN KEY (camera_id) REFERENCES cameras(id);
ALTER TABLE ONLY exchange_cameras ADD CONSTRAINT exchange_cameras_party_id_fkey FOREIGN KEY (party_id) REFERENCES exchange_parties(id);
ALTER TABLE ONLY exchange_changes ADD CONSTRAINT exchange_changes_link_id_fkey FOREIGN KEY (link_id) REFERENCES exchange_links(id);
ALTER TABLE ONLY exchange_changes ADD CONSTRAINT exchange_changes_party_id_fkey FOREIGN KEY (party_id) REFERENCES exchange_parties(id);
ALTER TABLE ONLY exchange_changes ADD CONSTRAINT exchange_changes_shared_id_fkey FOREIGN KEY (shared_id) REFERENCES exchange_cameras(id);
ALTER TABLE ONLY exchange_clashes ADD CONSTRAINT exchange_clashes_link_id_fkey FOREIGN KEY (link_id) REFERENCES exchange_links(id);
ALTER TABLE ONLY exchange_clashes ADD CONSTRAINT exchange_clashes_shared_id_fkey FOREIGN KEY (shared_id) REFERENCES exchange_cameras(id);
ALTER TABLE ONLY exchange_clashes ADD CONSTRAINT exchange_clashes_show_id_fkey FOREIGN KEY (show_id) REFERENCES shows(id);
ALTER TABLE ONLY exchange_links ADD CONSTRAINT exchange_links_first_id_fkey FOREIGN KEY (first_id) REFERENCES exchange_cameras(id);
ALTER TABLE ONLY exchange_links ADD CONSTRAINT exchange_links_second_id_fkey FOREIGN KEY (second_id) REFERENCES exchange_cameras(id);
ALTER TABLE ONLY exchange_links ADD CONSTRAINT exchange_links_show_id_fkey FOREIGN KEY (show_id) REFERENCES shows(id);
ALTER TABLE ONLY exchange_parties ADD CONSTRAINT exchange_parties_show_id_fkey FOREIGN KEY (show_id) REFERENCES shows(id);
ALTER TABLE ONLY exchange_pulled ADD CONSTRAINT exchange_pulled_shared_id_fkey FOREIGN KEY (shared_id) REFERENCES exchange_cameras(id);
ALTER TABLE ONLY exchange_pulled ADD CONSTRAINT exchange_pulled_version_id_fkey FOREIGN KEY (version_id) REFERENCES versions(id);
ALTER TABLE ONLY exchange_recordings ADD CONSTRAINT exchange_recordings_camera_id_fkey FOREIGN KEY (camera_id) REFERENCES cameras(id);
ALTER TABLE ONLY exchange_recordings ADD CONSTRAINT exchange_recordings_party_id_fkey FOREIGN KEY (party_id) REFERENCES exchange_parties(id);
ALTER TABLE ONLY exchange_recordings ADD CONSTRAINT exchange_recordings_show_id_fkey FOREIGN KEY (show_id) REFERENCES shows(id);
ALTER TABLE ONLY jobs ADD CONSTRAINT jobs_run_id_fkey FOREIGN KEY (run_id) REFERENCES runs(id);
ALTER TABLE ONLY jobs ADD CONSTRAINT jobs_target_id_fkey FOREIGN KEY (target_id) REFERENCES plan_targets(id);
ALTER TABLE ONLY jobs ADD CONSTRAINT jobs_version_id_fkey FOREIGN KEY (version_id) REFERENCES versions(id);
ALTER TABLE ONLY jobs ADD CONSTRAINT jobs_worker_id_fkey FOREIGN KEY (worker_id) REFERENCES workers(id) ON DELETE SET NULL;
ALTER TABLE ONLY one_time_links ADD CONSTRAINT one_time_links_person_id_fkey FOREIGN KEY (person_id) REFERENCES people(id) ON DELETE CASCADE;
ALTER TABLE ONLY plan_targets ADD CONSTRAINT plan_targets_show_id_fkey FOREIGN KEY (show_id) REFERENCES shows(id);
ALTER TABLE ONLY plate_proxies ADD CONSTRAINT plate_proxies_plate_id_fkey FOREIGN KEY (plate_id) REFERENCES plates(id) ON DELETE CASCADE;
ALTER TABLE ONLY plates ADD CONSTRAINT plates_shot_id_fkey FOREIGN KEY (shot_id) REFERENCES shots(id);
ALTER TABLE ONLY presence ADD CONSTRAINT presence_camera_id_fkey FOREIGN KEY (camera_id) REFERENCES cameras(id) ON DELETE CASCADE;
ALTER TABLE ONLY returns ADD CONSTRAINT returns_version_id_fkey FOREIGN KEY (version_id) REFERENCES versions(id);
ALTER TABLE ONLY roles_in_shows ADD CONSTRAINT roles_in_shows_person_id_fkey FOREIGN KEY (person_id) REFERENCES people(id) ON DELETE CASCADE;
ALTER TABLE ONLY roles_in_shows ADD CONSTRAINT roles_in_shows_show_id_fkey FOREIGN KEY (show_id) REFERENCES shows(id) ON DELETE CASCADE;
ALTER TABLE ONLY runs ADD CONSTRAINT runs_show_id_fkey FOREIGN KEY (show_id) REFERENCES shows(id);
ALTER TABLE ONLY shots ADD CONSTRAINT shots_show_id_fkey FOREIGN KEY (show_id) REFERENCES shows(id);
ALTER TABLE ONLY sign_ins ADD CONSTRAINT sign_ins_person_id_fkey FOREIGN KEY (person_id) REFERENCES people(id) ON DELETE CASCADE;
ALTER TABLE ONLY source_files ADD CONSTRAINT source_files_scene_sha256_fkey FOREIGN KEY (scene_sha256) REFERENCES contents(sha256);
ALTER TABLE ONLY source_files ADD CONSTRAINT source_files_sha256_fkey FOREIGN KEY (sha256) REFERENCES contents(sha256);
ALTER TABLE ONLY stills ADD CONSTRAINT stills_version_id_fkey FOREIGN KEY (version_id) REFERENCES versions(id);
ALTER TABLE ONLY tokens ADD CONSTRAINT tokens_person_id_fkey FOREIGN KEY (person_id) REFERENCES people(id) ON DELETE CASCADE;
ALTER TABLE ONLY tokens ADD CONSTRAINT tokens_show_id_fkey FOREIGN KEY (show_id) REFERENCES shows(id) ON DELETE CASCADE;
ALTER TABLE ONLY version_inputs ADD CONSTRAINT version_inputs_input_id_fkey FOREIGN KEY (input_id) REFERENCES versions(id);
ALTER TABLE ONLY version_inputs ADD CONSTRAINT version_inputs_source_file_id_fkey FOREIGN KEY (source_file_id) REFERENCES source_files(id);
ALTER TABLE ONLY version_inputs ADD CONSTRAINT version_inputs_version_id_fkey FOREIGN KEY (version_id) REFERENCES versions(id);
ALTER TABLE ONLY versions ADD CONSTRAINT versions_camera_id_fkey FOREIGN KEY (camera_id) REFERENCES cameras(id);
ALTER TABLE ONLY versions ADD CONSTRAINT versions_parent_id_fkey FOREIGN KEY (parent_id) REFERENCES versions(id);
ALTER TABLE ONLY webhook_calls ADD CONSTRAINT webhook_calls_webhook_id_fkey FOREIGN KEY (webhook_id) REFERENCES webhooks(id);
ALTER TABLE ONLY webhooks ADD CONSTRAINT webhooks_show_id_fkey FOREIGN KEY (show_id) REFERENCES shows(id);
