-- Not only time per call changes and stays so.
ALTER TABLE lasting_change
    ADD COLUMN measured text NOT NULL DEFAULT 'time_per_call',
    ADD COLUMN object text NOT NULL DEFAULT '';
ALTER TABLE lasting_change ALTER COLUMN measured DROP DEFAULT;
COMMENT ON COLUMN lasting_change.measured IS 'what changed: time per call, calls, rows, pages, waits, load, or a metric';
COMMENT ON COLUMN lasting_change.object IS 'of which kind of wait, or which metric of what; otherwise empty';
