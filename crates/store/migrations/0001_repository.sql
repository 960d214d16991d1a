-- Who may use Hurnix.
CREATE TABLE account (
    account_id    int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name          text NOT NULL UNIQUE,
    role          text NOT NULL CHECK (role IN ('reader', 'tuner', 'administrator')),
    password_hash text NOT NULL,
    created_at    timestamptz NOT NULL DEFAULT now()
);

-- Signed-in browsers. The token itself is only in the browser's cookie.
CREATE TABLE session (
    token_hash bytea PRIMARY KEY,
    account_id int NOT NULL REFERENCES account ON DELETE CASCADE,
    csrf_token text NOT NULL,
    expires_at timestamptz NOT NULL
);
CREATE INDEX session_expires_at ON session (expires_at);

-- The servers under care, how to reach them, and how collection stands.
CREATE TABLE instance (
    instance_id       int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    label             text NOT NULL UNIQUE,
    host              text NOT NULL,
    port              int NOT NULL,
    database_name     text NOT NULL,
    account_name      text NOT NULL,
    secret_sealed     bytea NOT NULL,
    tls_mode          text NOT NULL,
    created_at        timestamptz NOT NULL DEFAULT now(),
    collection        text NOT NULL DEFAULT 'waiting' CHECK (collection IN ('waiting', 'collecting', 'failing')),
    problem           jsonb,
    collection_since  timestamptz NOT NULL DEFAULT now(),
    last_success_at   timestamptz,
    server_version    text,
    limits            jsonb NOT NULL DEFAULT '[]'
);

-- Every text that rows would repeat: accounts, programs, clients, databases, wait events.
CREATE TABLE name (
    name_id     int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    instance_id int NOT NULL REFERENCES instance ON DELETE CASCADE,
    name        text NOT NULL,
    UNIQUE (instance_id, name)
);

-- Statements that differ only in literals.
CREATE TABLE family (
    family_id     bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    instance_id   int NOT NULL REFERENCES instance ON DELETE CASCADE,
    fingerprint   bigint NOT NULL,
    text          text NOT NULL,
    tag           text,
    sample        text NOT NULL,
    first_seen_at timestamptz NOT NULL,
    UNIQUE (instance_id, fingerprint)
);
COMMENT ON COLUMN instance.limits IS 'figures that this server does not give, with the reason and the remedy';
COMMENT ON COLUMN family.sample IS 'a statement of the family as the server keeps it, with parameters in place of literals where it does so';

-- When counters of one kind were read, and what came of it.
CREATE TABLE snapshot (
    instance_id       int NOT NULL REFERENCES instance ON DELETE CASCADE,
    kind              text NOT NULL,
    taken_at          timestamptz NOT NULL,
    read_ms           real NOT NULL,
    server_started_at timestamptz NOT NULL,
    reset_at          timestamptz,
    from_at           timestamptz,
    no_difference     text,
    PRIMARY KEY (instance_id, kind, taken_at)
);
COMMENT ON COLUMN snapshot.from_at IS 'start of the period that ends here; null when there is no difference';
COMMENT ON COLUMN snapshot.no_difference IS 'why the period before this snapshot has no figures';

-- The last snapshot of each kind as it was read: what the next difference starts from.
CREATE TABLE last_read (
    instance_id int NOT NULL REFERENCES instance ON DELETE CASCADE,
    kind        text NOT NULL,
    payload     bytea NOT NULL,
    PRIMARY KEY (instance_id, kind)
);

-- What happened in the period that ends at to_at, by object. Objects that did not move have no row.
CREATE TABLE statement_period (
    instance_id        int NOT NULL,
    to_at              timestamptz NOT NULL,
    family_id          bigint NOT NULL,
    account_id         int NOT NULL,
    database_id        int NOT NULL,
    lower_bound        boolean NOT NULL,
    calls              bigint NOT NULL,
    exec_us            bigint NOT NULL,
    plan_us            bigint NOT NULL,
    rows               bigint NOT NULL,
    hit_pages          bigint NOT NULL,
    read_pages         bigint NOT NULL,
    dirtied_pages      bigint NOT NULL,
    written_pages      bigint NOT NULL,
    temp_read_pages    bigint NOT NULL,
    temp_written_pages bigint NOT NULL,
    read_us            bigint NOT NULL,
    write_us           bigint NOT NULL,
    log_bytes          bigint NOT NULL
);
CREATE INDEX statement_period_window ON statement_period (instance_id, to_at);
CREATE INDEX statement_period_family ON statement_period (family_id, to_at);

CREATE TABLE table_period (
    instance_id          int NOT NULL,
    to_at                timestamptz NOT NULL,
    table_oid            bigint NOT NULL,
    lower_bound          boolean NOT NULL,
    full_reads           bigint NOT NULL,
    full_read_rows       bigint NOT NULL,
    index_reads          bigint NOT NULL,
    index_read_rows      bigint NOT NULL,
    inserted_rows        bigint NOT NULL,
    updated_rows         bigint NOT NULL,
    updated_in_page_rows bigint NOT NULL,
    deleted_rows         bigint NOT NULL,
    read_pages           bigint NOT NULL,
    hit_pages            bigint NOT NULL
);
CREATE INDEX table_period_window ON table_period (instance_id, to_at);

CREATE TABLE index_period (
    instance_id  int NOT NULL,
    to_at        timestamptz NOT NULL,
    index_oid    bigint NOT NULL,
    lower_bound  boolean NOT NULL,
    reads        bigint NOT NULL,
    read_entries bigint NOT NULL,
    fetched_rows bigint NOT NULL,
    read_pages   bigint NOT NULL,
    hit_pages    bigint NOT NULL
);
CREATE INDEX index_period_window ON index_period (instance_id, to_at);

CREATE TABLE database_period (
    instance_id   int NOT NULL,
    to_at         timestamptz NOT NULL,
    database_oid  bigint NOT NULL,
    lower_bound   boolean NOT NULL,
    commits       bigint NOT NULL,
    rollbacks     bigint NOT NULL,
    read_pages    bigint NOT NULL,
    hit_pages     bigint NOT NULL,
    returned_rows bigint NOT NULL,
    fetched_rows  bigint NOT NULL,
    inserted_rows bigint NOT NULL,
    updated_rows  bigint NOT NULL,
    deleted_rows  bigint NOT NULL,
    deadlocks     bigint NOT NULL,
    temp_files    bigint NOT NULL,
    temp_bytes    bigint NOT NULL,
    read_us       bigint NOT NULL,
    write_us      bigint NOT NULL
);
CREATE INDEX database_period_window ON database_period (instance_id, to_at);

CREATE TABLE checkpoint_period (
    instance_id     int NOT NULL,
    to_at           timestamptz NOT NULL,
    server          bigint NOT NULL,
    lower_bound     boolean NOT NULL,
    timed           bigint NOT NULL,
    requested       bigint NOT NULL,
    write_us        bigint NOT NULL,
    sync_us         bigint NOT NULL,
    written_pages   bigint NOT NULL,
    cleaned_pages   bigint NOT NULL,
    allocated_pages bigint NOT NULL
);
CREATE INDEX checkpoint_period_window ON checkpoint_period (instance_id, to_at);

-- One row for each look at the sessions, one more for each session that was not idle then.
CREATE TABLE activity_sample (
    instance_id int NOT NULL,
    sampled_at  timestamptz NOT NULL,
    sessions    int NOT NULL,
    PRIMARY KEY (instance_id, sampled_at)
);
CREATE TABLE activity (
    instance_id            int NOT NULL,
    sampled_at             timestamptz NOT NULL,
    process                int NOT NULL,
    process_started_at     timestamptz NOT NULL,
    wait_kind              smallint,
    event_id               int,
    family_id              bigint,
    account_id             int NOT NULL,
    program_id             int NOT NULL,
    client_id              int NOT NULL,
    database_id            int NOT NULL,
    transaction_started_at timestamptz,
    statement_started_at   timestamptz,
    blocked_by             int[] NOT NULL
);
COMMENT ON COLUMN activity.wait_kind IS 'position in the fixed order of wait kinds; null for a session that holds a transaction open without working';
CREATE INDEX activity_window ON activity (instance_id, sampled_at);

-- The newest catalog of the connected database, and what changed on the way to it.
CREATE TABLE catalog (
    instance_id int PRIMARY KEY REFERENCES instance ON DELETE CASCADE,
    payload     jsonb NOT NULL
);

-- Each value that a setting has had, since when it was seen.
CREATE TABLE setting (
    instance_id     int NOT NULL REFERENCES instance ON DELETE CASCADE,
    name            text NOT NULL,
    seen_at         timestamptz NOT NULL,
    value           text,
    unit            text,
    source          text NOT NULL,
    pending_restart boolean NOT NULL,
    PRIMARY KEY (instance_id, name, seen_at)
);

-- Things that happened at a time.
CREATE TABLE marker (
    marker_id   bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    instance_id int NOT NULL REFERENCES instance ON DELETE CASCADE,
    at          timestamptz NOT NULL,
    kind        text NOT NULL,
    text        text NOT NULL,
    UNIQUE (instance_id, at, kind, text)
);

-- The newest plan of a family, made without running it, or why there is none.
CREATE TABLE plan (
    family_id bigint PRIMARY KEY REFERENCES family ON DELETE CASCADE,
    read_at   timestamptz NOT NULL,
    text      text,
    problem   text
);

-- Lasting changes found.
CREATE TABLE lasting_change (
    change_id   bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    instance_id int NOT NULL REFERENCES instance ON DELETE CASCADE,
    family_id   bigint NOT NULL REFERENCES family ON DELETE CASCADE,
    onset_at    timestamptz NOT NULL,
    found_at    timestamptz NOT NULL,
    ratio       double precision NOT NULL,
    payload     jsonb NOT NULL
);
CREATE INDEX lasting_change_instance ON lasting_change (instance_id, onset_at);
CREATE INDEX lasting_change_family ON lasting_change (family_id, onset_at);

-- The advice book.
CREATE TABLE advice (
    advice_id             bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    instance_id           int NOT NULL REFERENCES instance ON DELETE CASCADE,
    kind                  text NOT NULL,
    subject               text NOT NULL,
    state                 text NOT NULL DEFAULT 'open' CHECK (state IN ('open', 'applied', 'set_aside')),
    made_at               timestamptz NOT NULL,
    updated_at            timestamptz NOT NULL,
    evidence_from         timestamptz NOT NULL,
    evidence_to           timestamptz NOT NULL,
    saved_seconds_per_day double precision NOT NULL,
    payload               jsonb NOT NULL,
    applied_from          timestamptz,
    applied_at            timestamptz,
    applied_by            text,
    verdict               text,
    measured_seconds_per_day double precision,
    effect                jsonb,
    effect_at             timestamptz
);
COMMENT ON COLUMN advice.applied_from IS 'the advice was not yet applied then; what lies between this and applied_at belongs to neither side';
-- The same advice is open once only; after it was applied or set aside it may be given anew.
CREATE UNIQUE INDEX advice_open ON advice (instance_id, kind, subject) WHERE state = 'open';
CREATE INDEX advice_by_saving ON advice (instance_id, state, saved_seconds_per_day DESC);
