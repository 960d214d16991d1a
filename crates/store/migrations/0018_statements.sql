-- How far the times of single executions lie apart, and what sort of statement a family is.
ALTER TABLE statement_period ADD COLUMN squared_ms bigint[];
ALTER TABLE statement_ten_minutes ADD COLUMN squared_ms bigint[];
ALTER TABLE statement_hour ADD COLUMN squared_ms bigint[];
COMMENT ON COLUMN statement_period.squared_ms IS 'squares of the times of single executions in ms, added up; nothing in periods of earlier versions';

ALTER TABLE family ADD COLUMN kind text;
COMMENT ON COLUMN family.kind IS 'what sort of statement it is (core::readings::statement_kind); nothing until it is judged';
-- The same family on other instances.
CREATE INDEX family_fingerprint ON family (fingerprint);
CREATE INDEX family_without_kind ON family (family_id) WHERE kind IS NULL;
