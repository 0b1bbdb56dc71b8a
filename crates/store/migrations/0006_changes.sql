-- Changes: decided and not yet sent (the tray), then what became of them (the logbook).

CREATE TABLE change_batch (
    account_id  bigint NOT NULL REFERENCES account ON DELETE CASCADE,
    id          bigint GENERATED ALWAYS AS IDENTITY,
    channel_id  bigint NOT NULL,
    -- Sent with the batch each time: the channel makes it once, however often it comes.
    key         text NOT NULL DEFAULT gen_random_uuid()::text,
    state       text NOT NULL DEFAULT 'queued' CHECK (state IN ('queued', 'running', 'answered', 'failed')),
    attempts    int NOT NULL DEFAULT 0,
    error       text,
    created_at  timestamptz NOT NULL DEFAULT now(),
    not_before  timestamptz NOT NULL DEFAULT now(),
    claimed_at  timestamptz,
    PRIMARY KEY (account_id, id),
    FOREIGN KEY (account_id, channel_id) REFERENCES channel ON DELETE CASCADE
);
CREATE INDEX change_batch_queue ON change_batch (id) WHERE state IN ('queued', 'running');

CREATE TABLE change (
    account_id  bigint NOT NULL REFERENCES account ON DELETE CASCADE,
    id          bigint GENERATED ALWAYS AS IDENTITY,
    campaign_id bigint NOT NULL,
    ad_group_id bigint,
    item_id     bigint,
    -- Where it is, by name, as it stood: the logbook reads the same after a rename.
    place       text NOT NULL,
    -- Settings of the open interface: what was set, what shall be.
    was         jsonb,
    set_to      jsonb NOT NULL,
    setting     text NOT NULL,
    reason      text NOT NULL,
    -- Figures that it rests on, as they stood: [[title, figure], …].
    evidence    jsonb NOT NULL DEFAULT '[]',
    effect      text NOT NULL DEFAULT '',
    -- Money that it adds to a day's budget (or frees, below 0), in millionths.
    a_day       bigint NOT NULL DEFAULT 0,
    origin      text NOT NULL CHECK (origin IN ('hand', 'causes', 'plan', 'undo')),
    created_by  bigint REFERENCES person ON DELETE SET NULL,
    created_at  timestamptz NOT NULL DEFAULT now(),
    -- waiting → sending → made | refused; waiting → withdrawn; refused → waiting (sent again)
    state       text NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'sending', 'made', 'refused', 'withdrawn')),
    batch_id    bigint,
    -- The channel's reason, if it refused.
    answer      text NOT NULL DEFAULT '',
    answered_at timestamptz,
    -- First day that it is in force.
    from_day    date,
    -- The day on which it is to be judged, and when somebody did.
    look_back   date,
    looked_at   timestamptz,
    -- The change that this one takes back.
    undoes      bigint,
    PRIMARY KEY (account_id, id),
    FOREIGN KEY (account_id, campaign_id) REFERENCES campaign ON DELETE CASCADE,
    FOREIGN KEY (account_id, batch_id) REFERENCES change_batch
);
CREATE INDEX change_open ON change (account_id, state) WHERE state IN ('waiting', 'sending');
CREATE INDEX change_due ON change (account_id, look_back) WHERE looked_at IS NULL AND state = 'made';
