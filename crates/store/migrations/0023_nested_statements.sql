-- What functions and procedures ran, statement by statement; the figures of the statement that called them hold it as well.
SELECT make_counters('nested_statement', 'family_id bigint[] NOT NULL, account_id int[] NOT NULL, database_id int[] NOT NULL',
    ARRAY['calls', 'exec_us', 'rows', 'hit_pages', 'read_pages', 'dirtied_pages', 'temp_written_pages', 'log_bytes']);
