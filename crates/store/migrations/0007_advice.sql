-- Kinds of advice that free space, and advice that does not hold any more.
ALTER TABLE advice
    DROP CONSTRAINT advice_state_check,
    ADD CONSTRAINT advice_state_check CHECK (state IN ('open', 'applied', 'set_aside', 'lapsed')),
    ADD COLUMN freed_bytes double precision NOT NULL DEFAULT 0;
COMMENT ON COLUMN advice.freed_bytes IS 'space that it is predicted to give back; 0 where none is promised';
DROP INDEX advice_by_saving;
CREATE INDEX advice_by_saving ON advice (instance_id, state, saved_seconds_per_day DESC, freed_bytes DESC);
