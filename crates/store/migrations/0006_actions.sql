-- Actions that take long: they run, tell how far they are, and can be stopped.
ALTER TABLE action
    DROP CONSTRAINT action_state_check,
    ADD CONSTRAINT action_state_check CHECK (state IN
        ('proposed', 'refused', 'withdrawn', 'approved', 'running', 'done', 'failed', 'stopped')),
    ADD COLUMN started_at timestamptz,
    ADD COLUMN alive_at timestamptz,
    ADD COLUMN ended_at timestamptz,
    ADD COLUMN share float8,
    ADD COLUMN phase text,
    ADD COLUMN stop_asked_by text;
COMMENT ON COLUMN action.alive_at IS 'the last sign of life of whoever runs it';
COMMENT ON COLUMN action.share IS 'how much of it is done, from 0 to 1, where the server tells';
COMMENT ON COLUMN action.phase IS 'what the server does just now';
