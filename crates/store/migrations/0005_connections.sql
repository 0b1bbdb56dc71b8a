-- Connections to channels, what they tell of the structure, and the jobs that fetch it.

CREATE TABLE connection (
    account_id bigint NOT NULL REFERENCES account ON DELETE CASCADE,
    id         bigint GENERATED ALWAYS AS IDENTITY,
    channel_id bigint NOT NULL,
    -- Address of the open interface, and the token that opens the account there.
    base_url   text NOT NULL,
    token      text NOT NULL,
    -- What the channel told last: its limits, the last day that is over, how long conversions may come in.
    limits     jsonb,
    last_day   date,
    window_days smallint,
    -- The last days whose report has been taken in whole.
    fetched_to date,
    fetched_at timestamptz,
    created_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (account_id, id),
    UNIQUE (account_id, channel_id),
    FOREIGN KEY (account_id, channel_id) REFERENCES channel ON DELETE CASCADE
);

CREATE TABLE sync_job (
    account_id    bigint NOT NULL,
    id            bigint GENERATED ALWAYS AS IDENTITY,
    connection_id bigint NOT NULL,
    state         text NOT NULL DEFAULT 'queued' CHECK (state IN ('queued', 'running', 'done', 'failed')),
    -- What it is doing, and how far that is.
    step          text NOT NULL DEFAULT '',
    bytes_read    bigint NOT NULL DEFAULT 0,
    rows_read     bigint NOT NULL DEFAULT 0,
    attempts      int NOT NULL DEFAULT 0,
    error         text,
    created_at    timestamptz NOT NULL DEFAULT now(),
    -- After a passing trouble it is tried again from then on.
    not_before    timestamptz NOT NULL DEFAULT now(),
    claimed_at    timestamptz,
    finished_at   timestamptz,
    PRIMARY KEY (account_id, id),
    FOREIGN KEY (account_id, connection_id) REFERENCES connection ON DELETE CASCADE
);
-- One at a time for each connection.
CREATE UNIQUE INDEX sync_job_open ON sync_job (account_id, connection_id) WHERE state IN ('queued', 'running');
CREATE INDEX sync_job_queue ON sync_job (id) WHERE state IN ('queued', 'running');

ALTER TABLE campaign
    ADD COLUMN channel_key text,
    ADD COLUMN settings jsonb,
    ADD CONSTRAINT campaign_channel_key UNIQUE (account_id, channel_id, channel_key);
ALTER TABLE ad_group
    ADD COLUMN channel_key text,
    ADD COLUMN settings jsonb,
    ADD CONSTRAINT ad_group_channel_key UNIQUE (account_id, campaign_id, channel_key);
ALTER TABLE item
    ADD COLUMN channel_key text,
    ADD COLUMN settings jsonb,
    ADD CONSTRAINT item_channel_key UNIQUE (account_id, ad_group_id, channel_key);

-- Shares of its auctions that a campaign stood aside from for want of budget, or lost for want of bid.
ALTER TABLE campaign_day ADD COLUMN lost_to_budget real, ADD COLUMN lost_to_bid real;

-- A report that a connection fetched: it restates what may still change, and there is no going back to before.
ALTER TABLE report_import ADD COLUMN connection_id bigint;

-- When a member last read the letter on Today, and the last reported day then.
ALTER TABLE membership ADD COLUMN visited_at timestamptz, ADD COLUMN visited_day date;
