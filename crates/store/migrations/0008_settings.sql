-- Settings of an instance are kept together: a new one needs no column.
ALTER TABLE instance ADD COLUMN settings jsonb NOT NULL DEFAULT '{}';
COMMENT ON COLUMN instance.settings IS 'how it is to be treated, by name of the setting; what is left out is as usual';
UPDATE instance SET settings = jsonb_build_object('keeps_literals', keeps_literals, 'more_databases', more_databases);
ALTER TABLE instance DROP COLUMN keeps_literals, DROP COLUMN more_databases;
