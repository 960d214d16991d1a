-- Advice that would be given again and is not, because of what was measured of it.
ALTER TABLE advice ADD COLUMN withheld_at timestamptz;
COMMENT ON COLUMN advice.withheld_at IS 'when the same would last have been advised again, and was not because of what was measured';

-- Lasting changes are kept with what became of them.
ALTER TABLE lasting_change
    ADD COLUMN story jsonb NOT NULL DEFAULT '[]',
    ADD COLUMN missed int NOT NULL DEFAULT 0,
    ADD COLUMN withdrawn boolean NOT NULL DEFAULT false;
COMMENT ON COLUMN lasting_change.story IS 'what became of it, in order of time: found, grew, over and so on';
COMMENT ON COLUMN lasting_change.missed IS 'in how many rounds in a row it was not found';
COMMENT ON COLUMN lasting_change.withdrawn IS 'more figures showed that there was none';
UPDATE lasting_change SET story = jsonb_build_array(jsonb_build_object(
    'at', (extract(epoch FROM found_at) * 1e6)::bigint, 'turnout', 'found', 'ratio', ratio,
    'onset', (extract(epoch FROM onset_at) * 1e6)::bigint));
DROP INDEX lasting_change_holds;
CREATE INDEX lasting_change_holds ON lasting_change (instance_id) WHERE payload -> 'until' = 'null' AND NOT withdrawn;

-- A change of the whole server is of no family.
ALTER TABLE lasting_change ALTER COLUMN family_id DROP NOT NULL;
COMMENT ON COLUMN lasting_change.family_id IS 'the family that changed; null where the whole server did';

-- What somebody makes of a change.
ALTER TABLE lasting_change
    ADD COLUMN answer text CHECK (answer IN ('accepted', 'dismissed', 'followed')),
    ADD COLUMN answer_reason text,
    ADD COLUMN answered_by text,
    ADD COLUMN answered_at timestamptz,
    ADD CHECK ((answer IS NULL) = (answered_by IS NULL AND answered_at IS NULL));
COMMENT ON COLUMN lasting_change.answer IS 'what somebody makes of it: the new normal, no trouble, or followed until it is over';
