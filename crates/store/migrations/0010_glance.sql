-- What the list of all instances shows, kept as it is written, so that hundreds of them are read at once.
-- Busy sessions of the last hours, by ten minutes and by their minutes; older rows are removed.
CREATE TABLE load_glance (
    instance_id    int NOT NULL REFERENCES instance ON DELETE CASCADE,
    cell_at        timestamptz NOT NULL,
    samples        bigint NOT NULL,
    busy           bigint NOT NULL,
    minute_samples bigint[] NOT NULL,
    minute_busy    bigint[] NOT NULL,
    PRIMARY KEY (instance_id, cell_at)
) WITH (fillfactor = 60);
COMMENT ON COLUMN load_glance.cell_at IS 'start of the ten minutes';
COMMENT ON COLUMN load_glance.samples IS 'looks at the sessions';
COMMENT ON COLUMN load_glance.busy IS 'busy sessions of all looks together';

INSERT INTO load_glance
    SELECT instance_id, cell_at, sum(samples), sum(busy),
           array_agg(samples ORDER BY minute), array_agg(busy ORDER BY minute)
    FROM (
        SELECT cells.instance_id, cell_at, minute, count(seen.at) FILTER (WHERE NOT seen.busy) AS samples,
               count(seen.at) FILTER (WHERE seen.busy) AS busy
        FROM (
            SELECT DISTINCT instance_id, date_bin('10 minutes', sampled_at - interval '1 microsecond', 'epoch') AS cell_at
            FROM activity_sample WHERE sampled_at > now() - interval '4 hours'
        ) AS cells
        CROSS JOIN generate_series(0, 9) AS minute
        LEFT JOIN (
            SELECT instance_id, sampled_at AS at, false AS busy FROM activity_sample WHERE sampled_at > now() - interval '4 hours'
            UNION ALL
            SELECT instance_id, sampled_at, true FROM activity WHERE sampled_at > now() - interval '4 hours' AND wait_kind IS NOT NULL
        ) AS seen ON seen.instance_id = cells.instance_id
            AND seen.at > cell_at + make_interval(mins => minute) AND seen.at <= cell_at + make_interval(mins => minute + 1)
        GROUP BY 1, 2, 3
    ) AS minutes
    GROUP BY 1, 2;

-- When something of it changed that the list shows: only those lines are sent again.
ALTER TABLE instance ADD COLUMN shown_changed_at timestamptz NOT NULL DEFAULT now();
CREATE FUNCTION note_shown_change() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    NEW.shown_changed_at := clock_timestamp();
    RETURN NEW;
END $$;
-- Leases, which are renewed all the time, and how far a log was read are not shown.
CREATE TRIGGER shown_change BEFORE UPDATE OF label, group_name, credential_id, host, port, database_name, account_name,
    tls_mode, tls_ca, host_endpoint, host_secret_sealed, allows_plain_password, settings, collection, problem,
    collection_since, last_success_at, server_version, limits, cost_share, cost_bytes, stretch
    ON instance FOR EACH ROW EXECUTE FUNCTION note_shown_change();

CREATE FUNCTION note_findings_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    UPDATE instance SET shown_changed_at = clock_timestamp() WHERE instance_id IN (SELECT instance_id FROM changed);
    RETURN NULL;
END $$;
CREATE TRIGGER shown_change_new AFTER INSERT ON lasting_change
    REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION note_findings_changed();
CREATE TRIGGER shown_change_other AFTER UPDATE ON lasting_change
    REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION note_findings_changed();
CREATE TRIGGER shown_change_gone AFTER DELETE ON lasting_change
    REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION note_findings_changed();
CREATE TRIGGER shown_change_new AFTER INSERT ON advice
    REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION note_findings_changed();
CREATE TRIGGER shown_change_other AFTER UPDATE ON advice
    REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION note_findings_changed();
CREATE TRIGGER shown_change_gone AFTER DELETE ON advice
    REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION note_findings_changed();

-- Only changes that still hold are shown there.
CREATE INDEX lasting_change_holds ON lasting_change (instance_id) WHERE payload -> 'until' = 'null';
