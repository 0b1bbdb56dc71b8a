-- Response curves as they were fitted after the last fetch or import, with their evidence.
CREATE TABLE response_curve (
    account_id  bigint NOT NULL,
    campaign_id bigint NOT NULL,
    -- None: the campaign as a whole.
    ad_group_id bigint,
    from_day    date NOT NULL,
    to_day      date NOT NULL,
    body        jsonb NOT NULL,
    fitted_at   timestamptz NOT NULL DEFAULT now(),
    UNIQUE NULLS NOT DISTINCT (account_id, campaign_id, ad_group_id),
    FOREIGN KEY (account_id, campaign_id) REFERENCES campaign ON DELETE CASCADE
);

-- A course: dated steps of one campaign's daily budget, sent by themselves once somebody has decided on them.
CREATE TABLE course (
    account_id  bigint NOT NULL,
    id          bigint GENERATED ALWAYS AS IDENTITY,
    campaign_id bigint NOT NULL,
    kind        text NOT NULL CHECK (kind IN ('experiment', 'lift', 'ramp')),
    -- In order: [[days after the first step, budget a day in millionths], …].
    steps       jsonb NOT NULL,
    -- What was set before.
    base        bigint NOT NULL,
    -- The first step's first day: given with a lift, else known once its change is in force.
    starts      date,
    -- Steps that have been sent.
    taken       int NOT NULL DEFAULT 0,
    -- The change that begins it, for those that wait in the tray.
    change_id   bigint,
    state       text NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'running', 'done', 'stopped')),
    -- Why it was stopped.
    note        text NOT NULL DEFAULT '',
    created_by  bigint REFERENCES person ON DELETE SET NULL,
    created_at  timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (account_id, id),
    FOREIGN KEY (account_id, campaign_id) REFERENCES campaign ON DELETE CASCADE,
    FOREIGN KEY (account_id, change_id) REFERENCES change
);
-- One campaign has one budget: two courses would pull at it.
CREATE UNIQUE INDEX course_open ON course (account_id, campaign_id) WHERE state IN ('waiting', 'running');

ALTER TABLE change DROP CONSTRAINT change_origin_check;
ALTER TABLE change ADD CONSTRAINT change_origin_check CHECK (origin IN ('hand', 'causes', 'plan', 'undo', 'course'));

-- The plan that the month is held against.
ALTER TABLE plan ADD COLUMN kept boolean NOT NULL DEFAULT false;
CREATE UNIQUE INDEX plan_kept ON plan (account_id) WHERE kept;
