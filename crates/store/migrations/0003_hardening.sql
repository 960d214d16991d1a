-- An entry of the audit trail is made before anything is done, and closed once with what came of it.
ALTER TABLE audit DROP CONSTRAINT audit_outcome_check;
ALTER TABLE audit ADD CHECK (outcome IN ('begun', 'done', 'refused', 'failed'));
COMMENT ON COLUMN audit.outcome IS 'begun: Hurnix ended, or lost its repository, before it could tell what came of it';

-- What the trail is searched by, in lower case; by pieces of three letters where the repository's server has them.
ALTER TABLE audit ADD COLUMN searched text
    GENERATED ALWAYS AS (lower(coalesce(instance, '') || ' ' || detail || ' ' || account || ' ' || client)) STORED;
DO $$
BEGIN
    CREATE EXTENSION IF NOT EXISTS pg_trgm;
    CREATE INDEX audit_searched ON audit USING gin (searched gin_trgm_ops);
EXCEPTION WHEN OTHERS THEN
    RAISE NOTICE 'pg_trgm is not to be had here: the audit trail is searched row by row';
END $$;

-- Where a credential may be used; anywhere while there are none.
ALTER TABLE credential ADD COLUMN hosts text[] NOT NULL DEFAULT '{}';
COMMENT ON COLUMN credential.hosts IS 'hosts that it may be sent to; any while there are none';

ALTER TABLE instance ADD COLUMN allows_plain_password boolean NOT NULL DEFAULT false;
ALTER TABLE instance ADD COLUMN host_secret_sealed bytea;
COMMENT ON COLUMN instance.allows_plain_password IS
    'whether the password may be sent in clear text or as MD5 over a connection whose other end is not verified';
COMMENT ON COLUMN instance.host_secret_sealed IS 'sealed value of the header Authorization for the exporter of the host';

-- The newest reading says which figures it holds: after an upgrade that adds one it cannot be read any more.
ALTER TABLE last_read ADD COLUMN layout text;
UPDATE last_read SET layout = CASE kind
    WHEN 'statements' THEN '1 calls exec_us plan_us rows hit_pages read_pages dirtied_pages written_pages temp_read_pages temp_written_pages read_us write_us log_bytes'
    WHEN 'tables' THEN '1 full_reads full_read_rows index_reads index_read_rows inserted_rows updated_rows updated_in_page_rows deleted_rows read_pages hit_pages'
    WHEN 'indexes' THEN '1 reads read_entries fetched_rows read_pages hit_pages'
    WHEN 'databases' THEN '1 commits rollbacks read_pages hit_pages returned_rows fetched_rows inserted_rows updated_rows deleted_rows deadlocks temp_files temp_bytes read_us write_us sessions session_us active_us idle_open_us'
    WHEN 'checkpoints' THEN '1 timed requested write_us sync_us written_pages cleaned_pages allocated_pages'
    END;

-- Since when Hurnix has seen each index, and since when nobody has read it.
CREATE TABLE index_watch (
    instance_id  int NOT NULL REFERENCES instance ON DELETE CASCADE,
    index_oid    bigint NOT NULL,
    seen_since   timestamptz NOT NULL,
    unread_since timestamptz NOT NULL,
    PRIMARY KEY (instance_id, index_oid)
);
COMMENT ON COLUMN index_watch.unread_since IS
    'the reading since which its count of reads stood still and was never set back';

-- Two windows that say the same are one.
DELETE FROM maintenance_window later USING maintenance_window earlier
WHERE later.window_id > earlier.window_id
  AND (later.instance_id, later.group_name, later.name, later.days, later.start_minute, later.minutes, later.time_zone)
      IS NOT DISTINCT FROM
      (earlier.instance_id, earlier.group_name, earlier.name, earlier.days, earlier.start_minute, earlier.minutes, earlier.time_zone);
CREATE UNIQUE INDEX maintenance_window_once ON maintenance_window
    (coalesce(instance_id, 0), coalesce(group_name, ''), name, days, start_minute, minutes, time_zone);
