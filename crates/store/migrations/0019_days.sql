-- A fourth level: what is summed up to hours is summed up to days as well, so that a month is thirty lists, not seven hundred.
DO $$
DECLARE hours record;
BEGIN
    FOR hours IN SELECT relname, left(relname, -length('_hour')) || '_day' AS days FROM pg_class
        WHERE relnamespace = current_schema()::regnamespace AND relkind = 'p' AND relname LIKE '%\_hour'
    LOOP
        EXECUTE format('CREATE TABLE %I (LIKE %I INCLUDING ALL) PARTITION BY RANGE (to_at)', hours.days, hours.relname);
    END LOOP;
END $$;

ALTER TABLE roll_up_due DROP CONSTRAINT roll_up_due_detail_check;
ALTER TABLE roll_up_due ADD CONSTRAINT roll_up_due_detail_check CHECK (detail IN ('ten_minutes', 'hour', 'day'));

-- The days of all hours that there are.
INSERT INTO roll_up_due (instance_id, detail, to_at)
SELECT DISTINCT instance_id, 'day', date_bin('1 day', to_at - interval '1 microsecond', 'epoch') + interval '1 day'
FROM (SELECT instance_id, to_at FROM observed_hour
      UNION ALL SELECT instance_id, to_at FROM activity_sample_hour
      UNION ALL SELECT instance_id, to_at FROM measure_hour) hour
WHERE instance_id IN (SELECT instance_id FROM instance)
ORDER BY 3;

-- Tables of a kind of counters have days from now on.
CREATE OR REPLACE FUNCTION make_counters(stem text, key text, figures text[]) RETURNS void LANGUAGE plpgsql AS $$
DECLARE
    suffix text;
    figure text;
BEGIN
    FOREACH suffix IN ARRAY ARRAY['period', 'ten_minutes', 'hour', 'day'] LOOP
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
