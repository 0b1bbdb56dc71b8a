-- What is advertised, and what was counted. Money, value and conversions are integers of millionths.

CREATE TABLE channel (
    account_id bigint NOT NULL REFERENCES account ON DELETE CASCADE,
    id         bigint GENERATED ALWAYS AS IDENTITY,
    name       text NOT NULL,
    PRIMARY KEY (account_id, id),
    UNIQUE (account_id, name)
);

CREATE TABLE campaign (
    account_id  bigint NOT NULL,
    id          bigint GENERATED ALWAYS AS IDENTITY,
    channel_id  bigint NOT NULL,
    name        text NOT NULL,
    -- What most of its items are; with the channel it tells who its peers are.
    kind        text NOT NULL CHECK (kind IN ('keyword', 'listing', 'ad', 'audience')),
    status      text CHECK (status IN ('active', 'paused', 'ended')),
    target_cpa  double precision CHECK (target_cpa > 0),
    target_roas double precision CHECK (target_roas > 0),
    PRIMARY KEY (account_id, id),
    UNIQUE (account_id, channel_id, name),
    FOREIGN KEY (account_id, channel_id) REFERENCES channel ON DELETE CASCADE,
    CHECK (target_cpa IS NULL OR target_roas IS NULL)
);

CREATE TABLE ad_group (
    account_id  bigint NOT NULL,
    id          bigint GENERATED ALWAYS AS IDENTITY,
    campaign_id bigint NOT NULL,
    name        text NOT NULL,
    PRIMARY KEY (account_id, id),
    UNIQUE (account_id, campaign_id, name),
    FOREIGN KEY (account_id, campaign_id) REFERENCES campaign ON DELETE CASCADE
);

CREATE TABLE item (
    account_id  bigint NOT NULL,
    id          bigint GENERATED ALWAYS AS IDENTITY,
    ad_group_id bigint NOT NULL,
    kind        text NOT NULL CHECK (kind IN ('keyword', 'listing', 'ad', 'audience')),
    name        text NOT NULL,
    match_type  text NOT NULL CHECK (match_type IN ('', 'exact', 'phrase', 'broad')),
    PRIMARY KEY (account_id, id),
    UNIQUE (account_id, ad_group_id, kind, name, match_type),
    FOREIGN KEY (account_id, ad_group_id) REFERENCES ad_group ON DELETE CASCADE
);

-- An item's day: what was shown, clicked and paid.
CREATE TABLE item_day (
    account_id  bigint NOT NULL,
    item_id     bigint NOT NULL,
    day         date NOT NULL,
    import_id   bigint NOT NULL,
    impressions bigint NOT NULL,
    clicks      bigint NOT NULL,
    spend       bigint NOT NULL,
    bid         bigint,
    PRIMARY KEY (account_id, item_id, day)
) PARTITION BY RANGE (day);

-- Conversions by the day of their click, their event, and their age where the report tells it (−1: it
-- does not), so that windows, baskets and lag are computed and not baked in.
CREATE TABLE conversion_day (
    account_id bigint NOT NULL,
    item_id    bigint NOT NULL,
    day        date NOT NULL,
    age_days   smallint NOT NULL DEFAULT -1,
    event      text NOT NULL DEFAULT '',
    import_id  bigint NOT NULL,
    count      bigint NOT NULL,
    value      bigint NOT NULL,
    PRIMARY KEY (account_id, item_id, day, age_days, event)
) PARTITION BY RANGE (day);

-- Rollup that screens read; kept in the transaction that changes the facts.
CREATE TABLE campaign_day (
    account_id  bigint NOT NULL,
    campaign_id bigint NOT NULL,
    day         date NOT NULL,
    impressions bigint NOT NULL,
    clicks      bigint NOT NULL,
    spend       bigint NOT NULL,
    conversions bigint NOT NULL,
    value       bigint NOT NULL,
    budget      bigint,
    -- The highest bid of its items: the ceiling that a click meets.
    bid         bigint,
    PRIMARY KEY (account_id, campaign_id, day)
);

-- Months are made as reports need them; the default takes nothing in normal use.
CREATE FUNCTION ensure_month(of date) RETURNS void LANGUAGE plpgsql AS $$
DECLARE
    first date := date_trunc('month', of);
    after date := first + interval '1 month';
    tag text := to_char(first, 'YYYY_MM');
BEGIN
    IF to_regclass('item_day_' || tag) IS NULL THEN
        PERFORM pg_advisory_xact_lock(hashtext('ensure_month'));
        EXECUTE format('CREATE TABLE IF NOT EXISTS %I PARTITION OF item_day FOR VALUES FROM (%L) TO (%L)', 'item_day_' || tag, first, after);
        EXECUTE format('CREATE TABLE IF NOT EXISTS %I PARTITION OF conversion_day FOR VALUES FROM (%L) TO (%L)', 'conversion_day_' || tag, first, after);
    END IF;
END $$;
