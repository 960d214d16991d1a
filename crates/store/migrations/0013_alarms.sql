-- Alarms: one trouble of one thing, from when it is seen until it is gone.
CREATE TABLE alarm (
    alarm_id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    instance_id integer NOT NULL REFERENCES instance ON DELETE CASCADE,
    trouble text NOT NULL,
    object text NOT NULL,
    opened_at timestamptz NOT NULL,
    closed_at timestamptz,
    payload jsonb NOT NULL
);
COMMENT ON COLUMN alarm.object IS 'what the trouble is of; empty for the server as a whole';
COMMENT ON COLUMN alarm.opened_at IS 'when it was opened, or opened again';
COMMENT ON COLUMN alarm.payload IS 'the trouble as it was last seen, what people do about it, and its story';
-- However many processes look: one trouble of one thing has one open alarm.
CREATE UNIQUE INDEX alarm_open ON alarm (instance_id, trouble, object) WHERE closed_at IS NULL;
CREATE INDEX alarm_closed ON alarm (instance_id, closed_at DESC) WHERE closed_at IS NOT NULL;
CREATE INDEX alarm_newest_closed ON alarm (closed_at DESC) WHERE closed_at IS NOT NULL;

CREATE TRIGGER shown_change_new AFTER INSERT ON alarm
    REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION note_findings_changed();
CREATE TRIGGER shown_change_other AFTER UPDATE ON alarm
    REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION note_findings_changed();
CREATE TRIGGER shown_change_gone AFTER DELETE ON alarm
    REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION note_findings_changed();
