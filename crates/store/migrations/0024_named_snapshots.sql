-- Snapshots that somebody named: all counters as they were read then, with the names of their objects. They stay until they
-- are deleted, whatever is kept of figures.
CREATE TABLE named_snapshot (
    snapshot_id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    instance_id int NOT NULL REFERENCES instance ON DELETE CASCADE,
    name        text NOT NULL,
    asked_at    timestamptz NOT NULL,
    asked_by    text NOT NULL,
    UNIQUE (instance_id, name)
);
CREATE TABLE named_reading (
    snapshot_id bigint NOT NULL REFERENCES named_snapshot ON DELETE CASCADE,
    kind        text NOT NULL,
    taken_at    timestamptz NOT NULL,
    reading     jsonb NOT NULL,
    PRIMARY KEY (snapshot_id, kind)
);
COMMENT ON COLUMN named_reading.reading IS 'the counters by name, so that later versions read them';
