-- Sessions that waited for a lock: few of all, and what a day of hold-ups is made of.
CREATE INDEX activity_waiting ON activity (instance_id, sampled_at) WHERE cardinality(blocked_by) > 0;
