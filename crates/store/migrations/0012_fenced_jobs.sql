-- What a fetch stages outlives a crash of the database, belongs to one attempt, and is counted: a merge that finds
-- less than was staged is refused.
TRUNCATE fetched_conversion, fetched_segment, fetched_term;
ALTER TABLE fetched_conversion SET LOGGED;
ALTER TABLE fetched_segment SET LOGGED;
ALTER TABLE fetched_term SET LOGGED;
ALTER TABLE fetched_conversion ADD COLUMN import_id bigint NOT NULL;
ALTER TABLE fetched_segment ADD COLUMN import_id bigint NOT NULL;
ALTER TABLE fetched_term ADD COLUMN import_id bigint NOT NULL;

-- How often it was taken up: whoever holds an older number has lost it and writes nothing any more. After a passing
-- trouble it is tried again from `not_before` on.
ALTER TABLE report_import
    ADD COLUMN attempts   int NOT NULL DEFAULT 0,
    ADD COLUMN not_before timestamptz NOT NULL DEFAULT now(),
    ADD COLUMN staged_conversions bigint,
    ADD COLUMN staged_segments    bigint,
    ADD COLUMN staged_terms       bigint;

-- What else an import replaced of a campaign's day, and the status that it replaced.
ALTER TABLE import_campaign_day
    ADD COLUMN replaced_lost_to_budget real,
    ADD COLUMN replaced_lost_to_bid    real,
    ADD COLUMN replaced_expected       double precision,
    ADD COLUMN replaced_expected_error double precision;
CREATE TABLE import_status (
    account_id  bigint NOT NULL,
    import_id   bigint NOT NULL,
    campaign_id bigint NOT NULL,
    status      text,
    PRIMARY KEY (account_id, import_id, campaign_id),
    FOREIGN KEY (account_id, import_id) REFERENCES report_import ON DELETE CASCADE,
    FOREIGN KEY (account_id, campaign_id) REFERENCES campaign ON DELETE CASCADE
);
