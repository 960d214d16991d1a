-- Values that somebody sets for a figure, and what is usual of each.
CREATE TABLE threshold (
    threshold_id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    instance_id integer REFERENCES instance ON DELETE CASCADE,
    group_name text,
    figure text NOT NULL,
    object text,
    side text NOT NULL CHECK (side IN ('high', 'low')),
    value double precision NOT NULL,
    clears_at double precision NOT NULL,
    lasts_seconds double precision NOT NULL CHECK (lasts_seconds >= 0),
    verdict text NOT NULL CHECK (verdict IN ('act', 'look')),
    step text NOT NULL,
    is_on boolean NOT NULL,
    CHECK (instance_id IS NULL OR group_name IS NULL)
);
COMMENT ON TABLE threshold IS 'for one instance, for a group, or for all where neither is given';
COMMENT ON COLUMN threshold.object IS 'of which object of the figure; of each where nothing is given';
COMMENT ON COLUMN threshold.is_on IS 'one that is off takes that of a wider scope out of force';
CREATE UNIQUE INDEX threshold_one_of_each ON threshold (instance_id, group_name, figure, object, side, verdict) NULLS NOT DISTINCT;

-- Quiet where a server does its work.
INSERT INTO threshold (figure, object, side, value, clears_at, lasts_seconds, verdict, step, is_on) VALUES
    ('wait_lock', NULL, 'high', 10, 5, 600, 'look', 'See on Sessions who holds the locks, and on Load which statements wait.', true),
    ('wait_log_write', NULL, 'high', 20, 10, 1200, 'look', 'See whether the storage of the WAL is slow, and whether many small transactions could be one.', true),
    ('deadlocks', NULL, 'high', 0.1, 0.02, 600, 'look', 'Let all programs lock rows in the same order; the log names both statements.', true),
    ('storage_busy', NULL, 'high', 0.95, 0.8, 3600, 'look', 'See on Load which statements read and write most, and whether a backup or vacuum runs.', true),
    ('replica_lag', NULL, 'high', 300, 60, 600, 'look', 'See whether the replica replays, whether a long query there holds it up, and whether the network is busy.', true),
    ('replay_lag', NULL, 'high', 300, 60, 600, 'look', 'See whether a long query on this replica holds the replay up, and whether its storage is busy.', true),
    ('log_archive_failed', NULL, 'high', 0, 0, 1800, 'act', 'Read the server''s log for what archive_command says; WAL is kept until it succeeds.', true),
    ('memory_available', NULL, 'low', 268435456, 536870912, 600, 'look', 'See what takes the memory of the host: sessions times work_mem, or another program.', true);

CREATE TABLE usual_range (
    instance_id integer NOT NULL REFERENCES instance ON DELETE CASCADE,
    figure text NOT NULL,
    object text NOT NULL,
    learnt_at timestamptz NOT NULL,
    payload jsonb NOT NULL,
    PRIMARY KEY (instance_id, figure, object)
);
COMMENT ON TABLE usual_range IS 'what is usual of a figure by the hour of the week, as last learnt';
