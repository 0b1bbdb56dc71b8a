-- Conversions of a click day that is not settled, completed by estimate from how the campaign's conversions
-- run off, and the standard error of that; learned anew after each fetch and each choice of what counts.
ALTER TABLE campaign_day ADD COLUMN expected double precision, ADD COLUMN expected_error double precision;

-- First and last day, at once.
CREATE INDEX campaign_day_day ON campaign_day (account_id, day);

-- Grows whenever the account's rollups change, so that what was read of them can be kept for as long as they
-- don't. A sequence of its own kind, not a lock: readers only compare it.
ALTER TABLE account ADD COLUMN figures bigint NOT NULL DEFAULT 0;
CREATE FUNCTION figures_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    UPDATE account SET figures = figures + 1 WHERE id IN (SELECT DISTINCT account_id FROM changed);
    RETURN NULL;
END $$;
CREATE TRIGGER added AFTER INSERT ON campaign_day REFERENCING NEW TABLE AS changed
    FOR EACH STATEMENT EXECUTE FUNCTION figures_changed();
CREATE TRIGGER altered AFTER UPDATE ON campaign_day REFERENCING NEW TABLE AS changed
    FOR EACH STATEMENT EXECUTE FUNCTION figures_changed();
CREATE TRIGGER removed AFTER DELETE ON campaign_day REFERENCING OLD TABLE AS changed
    FOR EACH STATEMENT EXECUTE FUNCTION figures_changed();
CREATE TRIGGER added AFTER INSERT ON campaign_event_day REFERENCING NEW TABLE AS changed
    FOR EACH STATEMENT EXECUTE FUNCTION figures_changed();
CREATE TRIGGER altered AFTER UPDATE ON campaign_event_day REFERENCING NEW TABLE AS changed
    FOR EACH STATEMENT EXECUTE FUNCTION figures_changed();
CREATE TRIGGER removed AFTER DELETE ON campaign_event_day REFERENCING OLD TABLE AS changed
    FOR EACH STATEMENT EXECUTE FUNCTION figures_changed();

-- Segments of a channel's whole day, kept with each fetch: what a split of the account reads.
CREATE TABLE channel_segment_day (
    account_id  bigint NOT NULL,
    channel_id  bigint NOT NULL,
    dimension   text NOT NULL,
    segment     text NOT NULL,
    day         date NOT NULL,
    impressions bigint NOT NULL,
    clicks      bigint NOT NULL,
    spend       bigint NOT NULL,
    conversions bigint NOT NULL,
    value       bigint NOT NULL,
    PRIMARY KEY (account_id, dimension, segment, day, channel_id),
    FOREIGN KEY (account_id, channel_id) REFERENCES channel ON DELETE CASCADE
);
INSERT INTO channel_segment_day
SELECT s.account_id, c.channel_id, s.dimension, s.segment, s.day, sum(s.impressions), sum(s.clicks), sum(s.spend), sum(s.conversions), sum(s.value)
FROM segment_day s JOIN ad_group g ON g.account_id = s.account_id AND g.id = s.ad_group_id
     JOIN campaign c ON c.account_id = g.account_id AND c.id = g.campaign_id
GROUP BY 1, 2, 3, 4, 5;
