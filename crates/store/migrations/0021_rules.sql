-- Rules: what they look at and do is kept by version; each time that one runs is a row, made once.
CREATE TABLE rule (
    account_id bigint NOT NULL REFERENCES account ON DELETE CASCADE,
    id         bigint GENERATED ALWAYS AS IDENTITY,
    version    int NOT NULL DEFAULT 1,
    state      text NOT NULL DEFAULT 'off' CHECK (state IN ('off', 'on', 'suspended', 'removed')),
    -- Why it was suspended.
    note       text NOT NULL DEFAULT '',
    -- When it runs next, while it is on.
    next_due   timestamptz,
    created_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (account_id, id)
);
CREATE INDEX rule_due ON rule (next_due) WHERE state = 'on';

CREATE TABLE rule_version (
    account_id bigint NOT NULL,
    rule_id    bigint NOT NULL,
    version    int NOT NULL,
    body       jsonb NOT NULL,
    -- As a sentence, as it read then.
    told       text NOT NULL,
    created_by bigint REFERENCES person ON DELETE SET NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (account_id, rule_id, version),
    FOREIGN KEY (account_id, rule_id) REFERENCES rule ON DELETE CASCADE
);

CREATE TABLE rule_run (
    account_id bigint NOT NULL,
    id         bigint GENERATED ALWAYS AS IDENTITY,
    rule_id    bigint NOT NULL,
    version    int NOT NULL,
    -- The time at which it was due; a run on demand has the moment at which it was asked for.
    due_at     timestamptz NOT NULL,
    -- Who asked for it; none where it was due by itself.
    asked_by   bigint REFERENCES person ON DELETE SET NULL,
    state      text NOT NULL DEFAULT 'queued' CHECK (state IN ('queued', 'running', 'done', 'failed', 'skipped')),
    attempts   int NOT NULL DEFAULT 0,
    not_before timestamptz NOT NULL DEFAULT now(),
    claimed_at timestamptz,
    ended_at   timestamptz,
    -- The last day that was known.
    as_of      date,
    looked_at  int NOT NULL DEFAULT 0,
    acted      int NOT NULL DEFAULT 0,
    -- For want of evidence, of room in the day's limits, because they were touched lately.
    waited     int NOT NULL DEFAULT 0,
    held       int NOT NULL DEFAULT 0,
    resting    int NOT NULL DEFAULT 0,
    note       text NOT NULL DEFAULT '',
    PRIMARY KEY (account_id, id),
    FOREIGN KEY (account_id, rule_id) REFERENCES rule ON DELETE CASCADE,
    -- Once for each due time, however many servers see it.
    UNIQUE (account_id, rule_id, due_at)
);
CREATE INDEX rule_run_queue ON rule_run (id) WHERE state IN ('queued', 'running');

CREATE TABLE rule_action (
    account_id  bigint NOT NULL,
    run_id      bigint NOT NULL,
    nth         int NOT NULL,
    campaign_id bigint NOT NULL,
    ad_group_id bigint,
    item_id     bigint,
    place       text NOT NULL,
    -- pause, resume, bid, budget, target, exclude, tell
    did         text NOT NULL,
    told        text NOT NULL,
    reason      text NOT NULL,
    -- What was known: clicks, spend, conversions, value, impressions.
    known       bigint[] NOT NULL,
    -- Its change, where it made one.
    change_id   bigint,
    day         date NOT NULL,
    PRIMARY KEY (account_id, run_id, nth),
    FOREIGN KEY (account_id, run_id) REFERENCES rule_run ON DELETE CASCADE,
    FOREIGN KEY (account_id, change_id) REFERENCES change ON DELETE SET NULL (change_id),
    FOREIGN KEY (account_id, campaign_id) REFERENCES campaign ON DELETE CASCADE
);
CREATE INDEX rule_action_of ON rule_action (account_id, day);

-- A change knows the run that made it, and goes on when the rule is gone.
ALTER TABLE change ADD COLUMN run_id bigint;
ALTER TABLE change ADD FOREIGN KEY (account_id, run_id) REFERENCES rule_run ON DELETE SET NULL (run_id);
CREATE INDEX change_of_run ON change (account_id, run_id) WHERE run_id IS NOT NULL;
ALTER TABLE change DROP CONSTRAINT change_origin_check;
ALTER TABLE change ADD CONSTRAINT change_origin_check CHECK (origin IN ('hand', 'causes', 'plan', 'week', 'undo', 'course', 'bids', 'rule'));

-- Since when no rule runs, and who said so.
ALTER TABLE account ADD COLUMN rules_stopped timestamptz;
ALTER TABLE account ADD COLUMN rules_stopped_by bigint REFERENCES person ON DELETE SET NULL;
-- Whether its time is that of its channels, whose days somebody lets pass, and not the clock's.
ALTER TABLE account ADD COLUMN market_clock boolean NOT NULL DEFAULT false;

-- The moment at which an account is: now, or the end of its channels' present day.
CREATE FUNCTION account_now(of bigint) RETURNS timestamptz LANGUAGE sql STABLE AS $$
    SELECT CASE WHEN a.market_clock AND l.last_day IS NOT NULL
                THEN ((l.last_day + 2)::timestamp AT TIME ZONE a.time_zone) - interval '1 second' ELSE now() END
    FROM account a, (SELECT max(last_day) AS last_day FROM connection WHERE account_id = of) l WHERE a.id = of
$$;

DO $$
DECLARE
    t text;
BEGIN
    FOREACH t IN ARRAY ARRAY['rule', 'rule_run'] LOOP
        EXECUTE format('CREATE TRIGGER added AFTER INSERT ON %I REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION decided_changed()', t);
        EXECUTE format('CREATE TRIGGER removed AFTER DELETE ON %I REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION decided_changed()', t);
        EXECUTE format('CREATE TRIGGER altered AFTER UPDATE ON %I REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION decided_changed()', t);
    END LOOP;
END $$;
