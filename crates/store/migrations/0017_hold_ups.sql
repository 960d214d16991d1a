-- Hold-ups that are over, joined while the looks that tell of them are there: what is left of them when these are gone.
CREATE TABLE hold_up (
    instance_id int NOT NULL,
    to_at       timestamptz NOT NULL,
    began_at    timestamptz NOT NULL,
    episode     jsonb NOT NULL
) PARTITION BY RANGE (to_at);
CREATE INDEX ON hold_up (instance_id, to_at);
COMMENT ON COLUMN hold_up.to_at IS 'end of the hour in which a look told that it was over: with the sums of that hour it is written anew';

-- Hours of which looks are kept yet are summed up once more, and keep their hold-ups.
INSERT INTO roll_up_due (instance_id, detail, to_at)
SELECT DISTINCT instance_id, 'hour', date_bin('1 hour', sampled_at - interval '1 microsecond', 'epoch') + interval '1 hour'
FROM activity JOIN instance USING (instance_id) WHERE cardinality(blocked_by) > 0
ON CONFLICT DO NOTHING;
