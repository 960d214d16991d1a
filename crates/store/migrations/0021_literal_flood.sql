-- Families whose statements differ in literals only, and fill the server's list of statements.
CREATE TABLE literal_flood (
    instance_id int NOT NULL REFERENCES instance ON DELETE CASCADE,
    family_id   bigint NOT NULL REFERENCES family ON DELETE CASCADE,
    since_at    timestamptz NOT NULL,
    seen_at     timestamptz NOT NULL,
    texts       bigint NOT NULL,
    text_bytes  bigint NOT NULL,
    entries     bigint NOT NULL,
    PRIMARY KEY (instance_id, family_id)
);
COMMENT ON COLUMN literal_flood.since_at IS 'first reading in which they were many; anew when they were few for a day';
COMMENT ON COLUMN literal_flood.entries IS 'statements in the server''s list, of all families';
