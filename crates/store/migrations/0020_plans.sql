-- When a family was run with which plan: what it cost meanwhile comes from its counters.
CREATE TABLE plan_use (
    family_id bigint NOT NULL REFERENCES family ON DELETE CASCADE,
    from_at   timestamptz NOT NULL,
    to_at     timestamptz NOT NULL,
    identity  bigint NOT NULL,
    PRIMARY KEY (family_id, from_at)
);
COMMENT ON TABLE plan_use IS 'plans in the order in which the server came to make them; one that came back is there again';
INSERT INTO plan_use SELECT family_id, first_read_at, read_at, identity FROM plan WHERE text IS NOT NULL ON CONFLICT DO NOTHING;

-- Plans that a server wrote to its log, with what came of each step when the statement was run.
CREATE TABLE logged_plan (
    family_id     bigint NOT NULL REFERENCES family ON DELETE CASCADE,
    identity      bigint NOT NULL,
    first_at      timestamptz NOT NULL,
    last_at       timestamptz NOT NULL,
    times         bigint NOT NULL,
    total_ms      double precision NOT NULL,
    most_ms       double precision NOT NULL,
    text          text NOT NULL,
    database_name text NOT NULL,
    PRIMARY KEY (family_id, identity)
);
COMMENT ON COLUMN logged_plan.text IS 'the last one written, without literals where the instance does not let them be kept';
COMMENT ON COLUMN logged_plan.times IS 'executions that were written to the log: the long ones only, by the server''s setting';
