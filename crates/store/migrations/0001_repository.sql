-- Who may use Hurnix.
CREATE TABLE account (
    account_id    int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name          text NOT NULL UNIQUE,
    role          text NOT NULL CHECK (role IN ('reader', 'tuner', 'administrator')),
    password_hash text NOT NULL,
    one_time      boolean NOT NULL,
    groups        text[] NOT NULL DEFAULT '{}',
    created_at    timestamptz NOT NULL DEFAULT now()
);
COMMENT ON COLUMN account.one_time IS 'whether the password serves for nothing but to set another one';
COMMENT ON COLUMN account.groups IS 'groups of instances that it is limited to; it sees all while there are none';

-- Signed-in browsers. The token itself is only in the browser's cookie.
CREATE TABLE session (
    session_id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    token_hash bytea NOT NULL UNIQUE,
    account_id int NOT NULL REFERENCES account ON DELETE CASCADE,
    csrf_token text NOT NULL,
    client     text NOT NULL,
    program    text NOT NULL,
    began_at   timestamptz NOT NULL DEFAULT now(),
    seen_at    timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz NOT NULL
);
CREATE INDEX session_expires_at ON session (expires_at);
CREATE INDEX session_account_id ON session (account_id);
COMMENT ON COLUMN session.client IS 'address that it was begun from';
COMMENT ON COLUMN session.program IS 'what the browser calls itself';

-- Tokens by which programs use the API in the name of an account. Only their hashes are kept.
CREATE TABLE api_token (
    token_id   int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    token_hash bytea NOT NULL UNIQUE,
    account_id int NOT NULL REFERENCES account ON DELETE CASCADE,
    name       text NOT NULL,
    role       text NOT NULL CHECK (role IN ('reader', 'tuner', 'administrator')),
    made_at    timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz NOT NULL,
    seen_at    timestamptz,
    UNIQUE (account_id, name)
);
COMMENT ON COLUMN api_token.role IS 'what it may do at most, and never more than its account';

-- Wrong passwords, by whom they are counted for: an account as tried from somewhere, or an address.
CREATE UNLOGGED TABLE wrong_password (
    counted_for text PRIMARY KEY,
    mistakes    int NOT NULL,
    last_at     timestamptz NOT NULL
);

-- Where accounts signed in from: an attacker elsewhere cannot keep them out there.
CREATE TABLE known_client (
    account_id int NOT NULL REFERENCES account ON DELETE CASCADE,
    client     text NOT NULL,
    seen_at    timestamptz NOT NULL,
    PRIMARY KEY (account_id, client)
);

-- The audit trail: who changed or tried to change what. Rows are added, and never changed.
CREATE TABLE audit (
    audit_id    bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at          timestamptz NOT NULL DEFAULT now(),
    account     text NOT NULL,
    means       text NOT NULL,
    client      text NOT NULL,
    action      text NOT NULL,
    instance_id int,
    instance    text,
    detail      text NOT NULL,
    outcome     text NOT NULL CHECK (outcome IN ('done', 'refused', 'failed'))
);
CREATE INDEX audit_at ON audit (at);
COMMENT ON COLUMN audit.account IS 'name of the account at that time; it may be gone, or never have been';
COMMENT ON COLUMN audit.means IS 'session, the name of a token, or command';
COMMENT ON COLUMN audit.instance IS 'label of the instance at that time';

-- Accounts on watched servers with their passwords, sealed, to be used by several instances.
-- One row: rules that all keep to.
CREATE TABLE house_rule (
    rule_id       int PRIMARY KEY DEFAULT 1 CHECK (rule_id = 1),
    second_person boolean NOT NULL DEFAULT false
);
COMMENT ON COLUMN house_rule.second_person IS 'whatever is put in force needs the approval of a second person';
INSERT INTO house_rule DEFAULT VALUES;

-- What was put in force or proposed. The instance may be gone later.
CREATE TABLE action (
    action_id   bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    instance_id int,
    instance    text,
    payload     jsonb NOT NULL,
    statement   text,
    reason      text NOT NULL,
    state       text NOT NULL CHECK (state IN ('proposed', 'refused', 'withdrawn', 'approved', 'done', 'failed')),
    proposed_by text NOT NULL,
    proposed_at timestamptz NOT NULL DEFAULT now(),
    decided_by  text,
    decided_at  timestamptz,
    outcome     text
);
CREATE INDEX action_proposed_at ON action (proposed_at);
COMMENT ON COLUMN action.instance IS 'label of the instance at that time';
COMMENT ON COLUMN action.statement IS 'exactly what is sent to the watched server; null for what concerns Hurnix itself';

CREATE TABLE credential (
    credential_id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name          text NOT NULL UNIQUE,
    account_name  text NOT NULL,
    secret_sealed bytea NOT NULL,
    changed_at    timestamptz NOT NULL DEFAULT now()
);

CREATE SEQUENCE instance_list;
COMMENT ON SEQUENCE instance_list IS 'numbers of lists of instances that were brought in';

-- The servers under care, how to reach them, and how collection stands.
CREATE TABLE instance (
    instance_id       int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    label             text NOT NULL UNIQUE,
    group_name        text,
    list_id           bigint,
    credential_id     int REFERENCES credential,
    engine            text NOT NULL DEFAULT 'postgres' CHECK (engine IN ('postgres', 'simulated', 'bundle')),
    host              text NOT NULL,
    port              int NOT NULL,
    database_name     text NOT NULL,
    account_name      text NOT NULL,
    secret_sealed     bytea NOT NULL,
    tls_mode          text NOT NULL,
    tls_ca            text,
    host_endpoint     text,
    created_at        timestamptz NOT NULL DEFAULT now(),
    collector_id      text,
    leased_until      timestamptz,
    collection        text NOT NULL DEFAULT 'waiting' CHECK (collection IN ('waiting', 'collecting', 'failing')),
    problem           jsonb,
    collection_since  timestamptz NOT NULL DEFAULT now(),
    last_success_at   timestamptz,
    server_version    text,
    limits            jsonb NOT NULL DEFAULT '[]',
    cost_share        real,
    cost_bytes        real,
    stretch           real,
    own_pace          jsonb NOT NULL DEFAULT '{}',
    snapshot_asked_at timestamptz,
    keeps_literals    boolean NOT NULL DEFAULT false,
    log_position      jsonb,
    scrape_token_hash bytea
);
COMMENT ON COLUMN instance.cost_share IS 'what reading costs the watched server, in shares of one core';
COMMENT ON COLUMN instance.cost_bytes IS 'bytes read from the watched server in a second';
COMMENT ON COLUMN instance.stretch IS 'largest factor by which an interval of reading is stretched';

COMMENT ON COLUMN instance.group_name IS 'group that accounts may be limited to';
COMMENT ON COLUMN instance.tls_ca IS 'certificates that the server''s is checked against besides those trusted anyway';
COMMENT ON COLUMN instance.list_id IS 'the list that it was brought in with';
COMMENT ON COLUMN instance.credential_id IS 'the credential that account_name and secret_sealed are those of';
COMMENT ON COLUMN instance.host_endpoint IS 'address of an exporter that tells of the host';
COMMENT ON COLUMN instance.engine IS 'what its figures come from; a bundle is brought in, not collected';

COMMENT ON COLUMN instance.scrape_token_hash IS 'of the token that opens its metrics; nobody may see them while it is null';
COMMENT ON COLUMN instance.snapshot_asked_at IS 'when somebody last asked for everything to be read at once';
COMMENT ON COLUMN instance.keeps_literals IS 'whether literals in the server''s log may be kept; masked otherwise';
COMMENT ON COLUMN instance.log_position IS 'how far the server''s log has been read: what was read up to there is kept';
COMMENT ON COLUMN instance.own_pace IS 'its own intervals of reading, in seconds, and budget; what is not given is the program''s';

-- What stands behind an instance that is simulated.
-- When instances may be worked on.
CREATE TABLE maintenance_window (
    window_id    int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    instance_id  int REFERENCES instance ON DELETE CASCADE,
    group_name   text,
    name         text NOT NULL,
    days         boolean[] NOT NULL,
    start_minute int NOT NULL,
    minutes      int NOT NULL,
    time_zone    text NOT NULL,
    CHECK (num_nonnulls(instance_id, group_name) = 1)
);
COMMENT ON COLUMN maintenance_window.days IS 'on which it opens, Monday first';
COMMENT ON COLUMN maintenance_window.time_zone IS 'place whose clock counts';

CREATE TABLE simulated_instance (
    instance_id int PRIMARY KEY REFERENCES instance ON DELETE CASCADE,
    model       jsonb NOT NULL,
    ready       boolean NOT NULL DEFAULT false
);
COMMENT ON COLUMN simulated_instance.ready IS 'its past is written: it can be collected from now on';

-- How reading went, by hour and kind of figures, and when one was last read.
CREATE TABLE collection_tally (
    instance_id  int NOT NULL REFERENCES instance ON DELETE CASCADE,
    hour         timestamptz NOT NULL,
    figures      text NOT NULL,
    read         bigint NOT NULL,
    refused      bigint NOT NULL,
    missed       bigint NOT NULL,
    dropped      bigint NOT NULL,
    read_us      bigint NOT NULL,
    bytes        bigint NOT NULL,
    last_read_at timestamptz,
    PRIMARY KEY (instance_id, hour, figures)
);

COMMENT ON COLUMN instance.collector_id IS 'the process that collects it, for as long as leased_until says';

-- Processes of Hurnix that share the instances, while they give a sign of life.
CREATE TABLE collector (
    collector_id text PRIMARY KEY,
    started_at   timestamptz NOT NULL DEFAULT now(),
    beat_at      timestamptz NOT NULL DEFAULT now()
);

-- Every text that rows would repeat: accounts, programs, clients, databases, wait events.
CREATE TABLE name (
    name_id      int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    instance_id  int NOT NULL REFERENCES instance ON DELETE CASCADE,
    name         text NOT NULL,
    last_seen_at timestamptz NOT NULL,
    UNIQUE (instance_id, name)
);
CREATE INDEX name_last_seen_at ON name (last_seen_at);
COMMENT ON COLUMN name.last_seen_at IS 'when it was last learnt or summed up to an hour: to within about a day';

-- Statements that differ only in literals.
CREATE TABLE family (
    family_id     bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    instance_id   int NOT NULL REFERENCES instance ON DELETE CASCADE,
    fingerprint   bigint NOT NULL,
    text          text NOT NULL,
    tag           text,
    sample        text NOT NULL,
    first_seen_at timestamptz NOT NULL,
    last_seen_at  timestamptz NOT NULL,
    UNIQUE (instance_id, fingerprint)
);
CREATE INDEX family_last_seen_at ON family (last_seen_at);
COMMENT ON COLUMN family.last_seen_at IS 'when it was last learnt or summed up to an hour: to within about a day';
COMMENT ON COLUMN instance.limits IS 'figures that this server does not give, with the reason and the remedy';
COMMENT ON COLUMN family.sample IS 'a statement of the family as the server keeps it, with parameters in place of literals where it does so';

-- The newest catalog of the connected database, and what changed on the way to it.
CREATE TABLE catalog (
    instance_id int PRIMARY KEY REFERENCES instance ON DELETE CASCADE,
    payload     jsonb NOT NULL
);

-- Each value that a setting has had, since when it was seen.
-- Databases, accounts, and who may sign in, as last read.
CREATE TABLE inventory (
    instance_id int PRIMARY KEY REFERENCES instance ON DELETE CASCADE,
    payload     jsonb NOT NULL
);

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
    noted_by    text,
    UNIQUE (instance_id, at, kind, text)
);
COMMENT ON COLUMN marker.noted_by IS 'who noted it; null for what the collector found';

-- Plans of a family, made without running it: one row for each plan that the server ever showed, with when
-- it first and last did; or why there is none.
CREATE TABLE plan (
    family_id     bigint NOT NULL REFERENCES family ON DELETE CASCADE,
    identity      bigint NOT NULL,
    first_read_at timestamptz NOT NULL,
    read_at       timestamptz NOT NULL,
    text          text,
    problem       text,
    PRIMARY KEY (family_id, identity)
);
COMMENT ON COLUMN plan.identity IS 'the same for plans that differ in estimates and literals only; 0 where there is no plan';

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
