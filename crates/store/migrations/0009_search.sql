-- Search by a few letters, in the middle of a word and with typing errors (PostgreSQL's pg_trgm).
CREATE EXTENSION IF NOT EXISTS pg_trgm;
CREATE INDEX family_text_trigrams ON family USING gin (text gin_trgm_ops);

-- Names of tables, to be found: the catalog itself is one document for each database.
CREATE TABLE table_name (
    instance_id   int NOT NULL REFERENCES instance ON DELETE CASCADE,
    database_name text NOT NULL,
    name          text NOT NULL,
    PRIMARY KEY (instance_id, database_name, name)
);
COMMENT ON COLUMN table_name.name IS 'schema.name';
CREATE INDEX table_name_trigrams ON table_name USING gin (name gin_trgm_ops);
INSERT INTO table_name
    SELECT DISTINCT instance_id, database_name, (found ->> 'schema') || '.' || (found ->> 'name')
    FROM catalog, jsonb_array_elements(payload -> 'tables') AS found;

-- What somebody has chosen for the pages.
ALTER TABLE account ADD COLUMN preferences jsonb NOT NULL DEFAULT '{}';
