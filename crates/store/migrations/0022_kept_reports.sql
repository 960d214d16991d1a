-- Reports that are made by themselves, and those that are kept: fetched by link, with what people wrote to them.
CREATE TABLE report_schedule (
    schedule_id   int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    instance_id   int REFERENCES instance ON DELETE CASCADE,
    group_name    text,
    kind          text NOT NULL,
    sections      text NOT NULL,
    every         text NOT NULL,
    weekday       smallint NOT NULL CHECK (weekday BETWEEN 0 AND 6),
    minute_of_day int NOT NULL CHECK (minute_of_day BETWEEN 0 AND 1439),
    time_zone     text NOT NULL,
    most_kept     int NOT NULL CHECK (most_kept > 0),
    made_by       text NOT NULL,
    next_at       timestamptz NOT NULL,
    problem       text,
    CHECK (instance_id IS NULL OR group_name IS NULL)
);
CREATE INDEX report_schedule_instance ON report_schedule (instance_id);
COMMENT ON COLUMN report_schedule.instance_id IS 'nothing: the instances of the group, or all where there is no group';
COMMENT ON COLUMN report_schedule.made_by IS 'who set it last';
COMMENT ON COLUMN report_schedule.weekday IS 'from Monday; counts for those of each week only';
COMMENT ON COLUMN report_schedule.next_at IS 'end of the period of the next report';
COMMENT ON COLUMN report_schedule.problem IS 'why there is no report on the last period';

CREATE TABLE kept_report (
    report_id   bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    instance_id int REFERENCES instance ON DELETE CASCADE,
    group_name  text,
    schedule_id int REFERENCES report_schedule ON DELETE SET NULL,
    kind        text NOT NULL,
    title       text NOT NULL,
    from_at     timestamptz NOT NULL,
    to_at       timestamptz NOT NULL,
    made_at     timestamptz NOT NULL,
    made_by     text NOT NULL,
    document    jsonb NOT NULL,
    words       text NOT NULL DEFAULT '',
    words_by    text,
    words_at    timestamptz,
    CHECK (instance_id IS NULL OR group_name IS NULL)
);
CREATE INDEX kept_report_instance ON kept_report (instance_id);
CREATE INDEX kept_report_schedule ON kept_report (schedule_id);
COMMENT ON COLUMN kept_report.instance_id IS 'nothing: the instances of the group, or all where there is no group';
COMMENT ON COLUMN kept_report.document IS 'the report as JSON, by docs/formats/report.schema.json';
