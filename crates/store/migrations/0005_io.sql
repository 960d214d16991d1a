-- Tables of a kind of counters: its periods as read, and their sums over ten minutes and an hour. `key` names the columns
-- of the object with their types, `figures` the counters.
CREATE FUNCTION make_counters(stem text, key text, figures text[]) RETURNS void LANGUAGE plpgsql AS $$
DECLARE
    suffix text;
    figure text;
BEGIN
    FOREACH suffix IN ARRAY ARRAY['period', 'ten_minutes', 'hour'] LOOP
        EXECUTE format(
            'CREATE TABLE %I (instance_id int NOT NULL, to_at timestamptz NOT NULL, %s, lower_bound boolean[] NOT NULL, %s,
             PRIMARY KEY (instance_id, to_at)) PARTITION BY RANGE (to_at)',
            stem || '_' || suffix, key, (SELECT string_agg(format('%I bigint[]', f), ', ' ORDER BY n) FROM unnest(figures) WITH ORDINALITY u (f, n)));
        FOREACH figure IN ARRAY figures LOOP
            BEGIN
                EXECUTE format('ALTER TABLE %I ALTER %I SET COMPRESSION lz4', stem || '_' || suffix, figure);
            EXCEPTION WHEN feature_not_supported OR syntax_error THEN
                -- The usual compression serves.
            END;
        END LOOP;
    END LOOP;
END $$;

SELECT make_counters('io', 'object_id int[] NOT NULL', ARRAY['reads', 'read_bytes', 'read_us', 'writes', 'write_bytes',
    'write_us', 'extends', 'extend_bytes', 'extend_us', 'written_back', 'hits', 'evictions', 'reuses', 'syncs', 'sync_us']);
COMMENT ON COLUMN io_period.object_id IS 'name of who does it, on what, and how';
