-- What is counted, and the splits of it that channels report.

-- The events that an account counts by default; without a choice, what each channel counts. And how many
-- days after a click a conversion is still counted; without a choice, as long as channels do.
ALTER TABLE account
    ADD COLUMN counted_events text[],
    ADD COLUMN click_window   smallint CHECK (click_window BETWEEN 0 AND 90),
    -- Days until a click day is settled, as its conversions have run off so far; two by common practice.
    ADD COLUMN settle_days    smallint NOT NULL DEFAULT 2 CHECK (settle_days BETWEEN 0 AND 90);
-- A campaign's own basket; without one it follows the account.
ALTER TABLE campaign ADD COLUMN counted_events text[];

-- Whether the channel counts it, and whether we do after all choices: what every figure adds up.
ALTER TABLE conversion_day
    ADD COLUMN channel_counts boolean NOT NULL DEFAULT true,
    ADD COLUMN counts         boolean NOT NULL DEFAULT true;
ALTER TABLE replaced_conversion_day
    ADD COLUMN channel_counts boolean NOT NULL DEFAULT true,
    ADD COLUMN counts         boolean NOT NULL DEFAULT true;

-- Rollup of a campaign's day by event, within the window of days after a click; kept in the transaction that
-- changes the facts or the choice.
CREATE TABLE campaign_event_day (
    account_id     bigint NOT NULL,
    campaign_id    bigint NOT NULL,
    day            date NOT NULL,
    event          text NOT NULL,
    count          bigint NOT NULL,
    value          bigint NOT NULL,
    channel_counts boolean NOT NULL,
    counts         boolean NOT NULL,
    PRIMARY KEY (account_id, campaign_id, day, event)
);

-- Whether a conversion is counted: within the window, and of an event that the campaign, else the account,
-- else the channel counts. A report that does not tell events counts as it says.
CREATE FUNCTION is_counted(event text, age_days smallint, channel_counts boolean, campaign_events text[], account_events text[], click_window smallint)
RETURNS boolean LANGUAGE sql IMMUTABLE AS $$
    SELECT age_days <= coalesce(click_window, 32767)
       AND (event = '' OR CASE WHEN campaign_events IS NOT NULL THEN event = ANY (campaign_events)
                               WHEN account_events IS NOT NULL THEN event = ANY (account_events)
                               ELSE channel_counts END)
$$;

-- An ad group's day, of some people. Splits are never added to the unsplit facts.
CREATE TABLE segment_day (
    account_id  bigint NOT NULL,
    ad_group_id bigint NOT NULL,
    day         date NOT NULL,
    dimension   text NOT NULL,
    segment     text NOT NULL,
    impressions bigint NOT NULL,
    clicks      bigint NOT NULL,
    spend       bigint NOT NULL,
    conversions bigint NOT NULL,
    value       bigint NOT NULL,
    PRIMARY KEY (account_id, ad_group_id, dimension, segment, day)
) PARTITION BY RANGE (day);

-- What people searched for, once for each account; and when somebody has been through it.
CREATE TABLE term (
    account_id bigint NOT NULL REFERENCES account ON DELETE CASCADE,
    id         bigint GENERATED ALWAYS AS IDENTITY,
    text       text NOT NULL,
    seen_at    timestamptz,
    PRIMARY KEY (account_id, id),
    UNIQUE (account_id, text)
);

-- A keyword's day, of one search term.
CREATE TABLE term_day (
    account_id  bigint NOT NULL,
    item_id     bigint NOT NULL,
    term_id     bigint NOT NULL,
    day         date NOT NULL,
    impressions bigint NOT NULL,
    clicks      bigint NOT NULL,
    spend       bigint NOT NULL,
    conversions bigint NOT NULL,
    value       bigint NOT NULL,
    PRIMARY KEY (account_id, item_id, term_id, day)
) PARTITION BY RANGE (day);

-- Fetched and not yet taken in: a fetch is taken in whole, in one transaction. Nothing here outlives a fetch.
CREATE UNLOGGED TABLE fetched_conversion (
    account_id bigint NOT NULL, connection_id bigint NOT NULL,
    campaign text NOT NULL, ad_group text NOT NULL, kind text NOT NULL, item text NOT NULL, match_type text NOT NULL,
    day date NOT NULL, event text NOT NULL, age_days smallint NOT NULL, count bigint NOT NULL, value bigint NOT NULL,
    counted boolean NOT NULL
);
CREATE INDEX ON fetched_conversion (account_id, connection_id);
CREATE UNLOGGED TABLE fetched_segment (
    account_id bigint NOT NULL, connection_id bigint NOT NULL,
    campaign text NOT NULL, ad_group text NOT NULL, day date NOT NULL, dimension text NOT NULL, segment text NOT NULL,
    impressions bigint NOT NULL, clicks bigint NOT NULL, spend bigint NOT NULL, conversions bigint NOT NULL, value bigint NOT NULL
);
CREATE INDEX ON fetched_segment (account_id, connection_id);
CREATE UNLOGGED TABLE fetched_term (
    account_id bigint NOT NULL, connection_id bigint NOT NULL,
    campaign text NOT NULL, ad_group text NOT NULL, item text NOT NULL, match_type text NOT NULL, day date NOT NULL, term text NOT NULL,
    impressions bigint NOT NULL, clicks bigint NOT NULL, spend bigint NOT NULL, conversions bigint NOT NULL, value bigint NOT NULL
);
CREATE INDEX ON fetched_term (account_id, connection_id);

-- Views of Spend that a member has put by: a name for a query string.
CREATE TABLE saved_view (
    account_id bigint NOT NULL,
    person_id  bigint NOT NULL REFERENCES person ON DELETE CASCADE,
    name       text NOT NULL,
    query      text NOT NULL,
    PRIMARY KEY (account_id, person_id, name),
    FOREIGN KEY (account_id) REFERENCES account ON DELETE CASCADE
);

-- The last day whose splits have been taken in.
ALTER TABLE connection ADD COLUMN splits_to date;

-- Months are made as reports need them.
CREATE OR REPLACE FUNCTION ensure_month(of date) RETURNS void LANGUAGE plpgsql AS $$
DECLARE
    first date := date_trunc('month', of);
    after date := first + interval '1 month';
    tag text := to_char(first, 'YYYY_MM');
    facts text;
BEGIN
    FOREACH facts IN ARRAY ARRAY['item_day', 'conversion_day', 'segment_day', 'term_day'] LOOP
        IF to_regclass(facts || '_' || tag) IS NULL THEN
            PERFORM pg_advisory_xact_lock(hashtext('ensure_month'));
            EXECUTE format('CREATE TABLE IF NOT EXISTS %I PARTITION OF %I FOR VALUES FROM (%L) TO (%L)', facts || '_' || tag, facts, first, after);
        END IF;
    END LOOP;
END $$;
