-- Further databases of an instance whose tables and indexes are read, besides the one connected to.
ALTER TABLE instance ADD COLUMN more_databases text[] NOT NULL DEFAULT '{}';
COMMENT ON COLUMN instance.more_databases IS 'databases whose catalogs are read, too, over connections of their own';

-- A catalog, and a plan, are those of one database.
ALTER TABLE catalog ADD COLUMN database_name text;
UPDATE catalog SET database_name = coalesce(payload->>'database', '');
ALTER TABLE catalog ALTER COLUMN database_name SET NOT NULL;
ALTER TABLE catalog DROP CONSTRAINT catalog_pkey;
ALTER TABLE catalog ADD PRIMARY KEY (instance_id, database_name);

ALTER TABLE plan ADD COLUMN database_name text;
COMMENT ON COLUMN plan.database_name IS 'database that it was made in; null where that was not noted';

-- The newest readings are written over and over: to compress them costs more than they are worth.
ALTER TABLE last_read ALTER COLUMN payload SET STORAGE EXTERNAL;
