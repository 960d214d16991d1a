-- Figures over time. Every table here is partitioned by time; partitions are made ahead and dropped
-- behind by the store. What was read is kept for days, its sums over ten minutes for weeks, and those
-- over an hour for more than a year.

-- When counters of one kind were read, and what came of it.
CREATE TABLE snapshot (
    instance_id       int NOT NULL,
    kind              text NOT NULL,
    taken_at          timestamptz NOT NULL,
    read_ms           real NOT NULL,
    server_started_at timestamptz NOT NULL,
    reset_at          timestamptz,
    from_at           timestamptz,
    no_difference     text,
    PRIMARY KEY (instance_id, kind, taken_at)
) PARTITION BY RANGE (taken_at);
COMMENT ON COLUMN snapshot.from_at IS 'start of the period that ends here; null when there is no difference';
COMMENT ON COLUMN snapshot.no_difference IS 'why the period before this snapshot has no figures';

-- Seconds and periods observed in a bucket of time.
CREATE TABLE observed_ten_minutes (
    instance_id int NOT NULL,
    kind        text NOT NULL,
    to_at       timestamptz NOT NULL,
    from_at     timestamptz NOT NULL,
    seconds     double precision NOT NULL,
    periods     bigint NOT NULL,
    PRIMARY KEY (instance_id, kind, to_at)
) PARTITION BY RANGE (to_at);
COMMENT ON COLUMN observed_ten_minutes.from_at IS 'start of the first period of the bucket';
CREATE TABLE observed_hour (LIKE observed_ten_minutes INCLUDING ALL) PARTITION BY RANGE (to_at);

-- What happened in the period that ends at to_at, by object; objects that did not move are left out.
-- A period, or a bucket of summed-up ones, is one row with a list for each figure, all in the same order:
-- that takes a tenth of the space of a row for each object, and half the time to write.
CREATE TABLE statement_period (
    instance_id        int NOT NULL,
    to_at              timestamptz NOT NULL,
    family_id          bigint[] NOT NULL,
    account_id         int[] NOT NULL,
    database_id        int[] NOT NULL,
    lower_bound        boolean[] NOT NULL,
    calls              bigint[] NOT NULL,
    exec_us            bigint[] NOT NULL,
    plan_us            bigint[] NOT NULL,
    rows               bigint[] NOT NULL,
    hit_pages          bigint[] NOT NULL,
    read_pages         bigint[] NOT NULL,
    dirtied_pages      bigint[] NOT NULL,
    written_pages      bigint[] NOT NULL,
    temp_read_pages    bigint[] NOT NULL,
    temp_written_pages bigint[] NOT NULL,
    read_us            bigint[] NOT NULL,
    write_us           bigint[] NOT NULL,
    log_bytes          bigint[] NOT NULL,
    PRIMARY KEY (instance_id, to_at)
) PARTITION BY RANGE (to_at);
CREATE TABLE statement_ten_minutes (LIKE statement_period INCLUDING ALL) PARTITION BY RANGE (to_at);
CREATE TABLE statement_hour (LIKE statement_period INCLUDING ALL) PARTITION BY RANGE (to_at);

CREATE TABLE table_period (
    instance_id          int NOT NULL,
    to_at                timestamptz NOT NULL,
    table_oid            bigint[] NOT NULL,
    lower_bound          boolean[] NOT NULL,
    full_reads           bigint[] NOT NULL,
    full_read_rows       bigint[] NOT NULL,
    index_reads          bigint[] NOT NULL,
    index_read_rows      bigint[] NOT NULL,
    inserted_rows        bigint[] NOT NULL,
    updated_rows         bigint[] NOT NULL,
    updated_in_page_rows bigint[] NOT NULL,
    deleted_rows         bigint[] NOT NULL,
    read_pages           bigint[] NOT NULL,
    hit_pages            bigint[] NOT NULL,
    PRIMARY KEY (instance_id, to_at)
) PARTITION BY RANGE (to_at);
CREATE TABLE table_ten_minutes (LIKE table_period INCLUDING ALL) PARTITION BY RANGE (to_at);
CREATE TABLE table_hour (LIKE table_period INCLUDING ALL) PARTITION BY RANGE (to_at);

CREATE TABLE index_period (
    instance_id  int NOT NULL,
    to_at        timestamptz NOT NULL,
    index_oid    bigint[] NOT NULL,
    lower_bound  boolean[] NOT NULL,
    reads        bigint[] NOT NULL,
    read_entries bigint[] NOT NULL,
    fetched_rows bigint[] NOT NULL,
    read_pages   bigint[] NOT NULL,
    hit_pages    bigint[] NOT NULL,
    PRIMARY KEY (instance_id, to_at)
) PARTITION BY RANGE (to_at);
CREATE TABLE index_ten_minutes (LIKE index_period INCLUDING ALL) PARTITION BY RANGE (to_at);
CREATE TABLE index_hour (LIKE index_period INCLUDING ALL) PARTITION BY RANGE (to_at);

CREATE TABLE database_period (
    instance_id   int NOT NULL,
    to_at         timestamptz NOT NULL,
    database_oid  bigint[] NOT NULL,
    lower_bound   boolean[] NOT NULL,
    commits       bigint[] NOT NULL,
    rollbacks     bigint[] NOT NULL,
    read_pages    bigint[] NOT NULL,
    hit_pages     bigint[] NOT NULL,
    returned_rows bigint[] NOT NULL,
    fetched_rows  bigint[] NOT NULL,
    inserted_rows bigint[] NOT NULL,
    updated_rows  bigint[] NOT NULL,
    deleted_rows  bigint[] NOT NULL,
    deadlocks     bigint[] NOT NULL,
    temp_files    bigint[] NOT NULL,
    temp_bytes    bigint[] NOT NULL,
    read_us       bigint[] NOT NULL,
    write_us      bigint[] NOT NULL,
    PRIMARY KEY (instance_id, to_at),
    sessions      bigint[] NOT NULL,
    session_us    bigint[] NOT NULL,
    active_us     bigint[] NOT NULL,
    idle_open_us  bigint[] NOT NULL
) PARTITION BY RANGE (to_at);
CREATE TABLE database_ten_minutes (LIKE database_period INCLUDING ALL) PARTITION BY RANGE (to_at);
CREATE TABLE database_hour (LIKE database_period INCLUDING ALL) PARTITION BY RANGE (to_at);

CREATE TABLE checkpoint_period (
    instance_id     int NOT NULL,
    to_at           timestamptz NOT NULL,
    server          bigint[] NOT NULL,
    lower_bound     boolean[] NOT NULL,
    timed           bigint[] NOT NULL,
    requested       bigint[] NOT NULL,
    write_us        bigint[] NOT NULL,
    sync_us         bigint[] NOT NULL,
    written_pages   bigint[] NOT NULL,
    cleaned_pages   bigint[] NOT NULL,
    allocated_pages bigint[] NOT NULL,
    PRIMARY KEY (instance_id, to_at)
) PARTITION BY RANGE (to_at);
CREATE TABLE checkpoint_ten_minutes (LIKE checkpoint_period INCLUDING ALL) PARTITION BY RANGE (to_at);
CREATE TABLE checkpoint_hour (LIKE checkpoint_period INCLUDING ALL) PARTITION BY RANGE (to_at);

-- One row for each look at the sessions, one more for each session that was not idle then.
CREATE TABLE activity_sample (
    instance_id int NOT NULL,
    sampled_at  timestamptz NOT NULL,
    sessions    int NOT NULL,
    PRIMARY KEY (instance_id, sampled_at)
) PARTITION BY RANGE (sampled_at);
CREATE TABLE activity_sample_ten_minutes (
    instance_id int NOT NULL,
    to_at       timestamptz NOT NULL,
    samples     bigint NOT NULL,
    sessions    bigint NOT NULL,
    PRIMARY KEY (instance_id, to_at)
) PARTITION BY RANGE (to_at);
COMMENT ON COLUMN activity_sample_ten_minutes.sessions IS 'connected sessions, summed over the samples';
CREATE TABLE activity_sample_hour (LIKE activity_sample_ten_minutes INCLUDING ALL) PARTITION BY RANGE (to_at);

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
    blocked_by             int[] NOT NULL,
    lock_mode_id           int,
    lock_kind_id           int,
    lock_object_id         int
) PARTITION BY RANGE (sampled_at);
COMMENT ON COLUMN activity.wait_kind IS 'position in the fixed order of wait kinds; null for a session that holds a transaction open without working';
COMMENT ON COLUMN activity.lock_mode_id IS 'name of the mode of the lock that it waits for; likewise its kind, and the table that it concerns';
CREATE INDEX ON activity (instance_id, sampled_at);
CREATE TABLE activity_ten_minutes (
    instance_id int NOT NULL,
    to_at       timestamptz NOT NULL,
    wait_kind   smallint NOT NULL,
    event_id    int,
    family_id   bigint,
    account_id  int NOT NULL,
    program_id  int NOT NULL,
    client_id   int NOT NULL,
    database_id int NOT NULL,
    busy        bigint NOT NULL
) PARTITION BY RANGE (to_at);
COMMENT ON COLUMN activity_ten_minutes.busy IS 'busy sessions, summed over the samples of the bucket';
CREATE INDEX ON activity_ten_minutes (instance_id, to_at);
CREATE TABLE activity_hour (LIKE activity_ten_minutes INCLUDING ALL) PARTITION BY RANGE (to_at);

-- Single figures: what was measured at one moment, as lists.
CREATE TABLE measure (
    instance_id int NOT NULL,
    to_at       timestamptz NOT NULL,
    figures     text NOT NULL,
    metric      smallint[] NOT NULL,
    object_id   int[] NOT NULL,
    value       double precision[] NOT NULL,
    PRIMARY KEY (instance_id, to_at, figures)
) PARTITION BY RANGE (to_at);
COMMENT ON COLUMN measure.figures IS 'the kind of figures that was read';
COMMENT ON COLUMN measure.object_id IS 'name of what was measured; the empty name stands for the server as a whole';
CREATE TABLE measure_ten_minutes (
    instance_id int NOT NULL,
    to_at       timestamptz NOT NULL,
    figures     text NOT NULL,
    metric      smallint[] NOT NULL,
    object_id   int[] NOT NULL,
    readings    bigint[] NOT NULL,
    total       double precision[] NOT NULL,
    least       double precision[] NOT NULL,
    most        double precision[] NOT NULL,
    PRIMARY KEY (instance_id, to_at, figures)
) PARTITION BY RANGE (to_at);
COMMENT ON COLUMN measure_ten_minutes.total IS 'sums of the values: divided by the readings, their means';
CREATE TABLE measure_hour (LIKE measure_ten_minutes INCLUDING ALL) PARTITION BY RANGE (to_at);

-- Buckets of which something was written since they were last summed up.
CREATE TABLE roll_up_due (
    instance_id int NOT NULL REFERENCES instance ON DELETE CASCADE,
    detail      text NOT NULL CHECK (detail IN ('ten_minutes', 'hour')),
    to_at       timestamptz NOT NULL,
    writes      int NOT NULL DEFAULT 1,
    PRIMARY KEY (instance_id, detail, to_at)
);
CREATE INDEX ON roll_up_due (detail, to_at);

-- The last snapshot of each kind as it was read: what the next difference starts from.
CREATE TABLE last_read (
    instance_id int NOT NULL REFERENCES instance ON DELETE CASCADE,
    kind        text NOT NULL,
    taken_at    timestamptz NOT NULL,
    payload     bytea NOT NULL,
    PRIMARY KEY (instance_id, kind)
);

-- Lists of figures, and snapshots as read, are compressed by lz4, where the repository's server knows it: several times as fast.
DO $$
DECLARE packed record;
BEGIN
    ALTER TABLE last_read ALTER payload SET COMPRESSION lz4;
    FOR packed IN SELECT attrelid::regclass AS of_table, attname FROM pg_attribute
        WHERE attrelid IN (SELECT oid FROM pg_class WHERE relnamespace = current_schema()::regnamespace AND relkind = 'p'
            AND (relname ~ '_(period|ten_minutes|hour)$' OR relname = 'measure'))
          AND atttypid IN (SELECT oid FROM pg_type WHERE typcategory = 'A')
    LOOP
        EXECUTE format('ALTER TABLE %s ALTER %I SET COMPRESSION lz4', packed.of_table, packed.attname);
    END LOOP;
EXCEPTION WHEN feature_not_supported OR syntax_error THEN
    RAISE NOTICE 'lz4 is not known here: the usual compression serves';
END $$;

-- What a server wrote to its log: a row for each line, or for several of one reading that say the same.
CREATE TABLE server_log (
    instance_id int NOT NULL,
    logged_at   timestamptz NOT NULL,
    session     text NOT NULL,
    line        bigint NOT NULL,
    kind        text NOT NULL,
    severity    text NOT NULL,
    state       text NOT NULL,
    message     text NOT NULL,
    detail      text NOT NULL,
    statement   text,
    family_id   bigint,
    account_id  int NOT NULL,
    program_id  int NOT NULL,
    client_id   int NOT NULL,
    database_id int NOT NULL,
    process     int NOT NULL,
    times       bigint NOT NULL,
    value       double precision,
    PRIMARY KEY (instance_id, logged_at, session, line)
) PARTITION BY RANGE (logged_at);
COMMENT ON COLUMN server_log.statement IS 'with its literals, where the instance lets them be kept; else null, and the family tells';
COMMENT ON COLUMN server_log.value IS 'bytes of temporary files or of log not read, seconds of anything else; of all lines together';
