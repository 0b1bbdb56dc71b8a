-- What was said with a range or a probability that can be checked later, and what came.
CREATE TABLE statement (
    account_id  bigint NOT NULL REFERENCES account ON DELETE CASCADE,
    id          bigint GENERATED ALWAYS AS IDENTITY,
    kind        text NOT NULL CHECK (kind IN ('month_spend', 'completed', 'over_target')),
    campaign_id bigint NOT NULL,
    -- The last day that was known, and the one when it was written down: later where it was worked out from what had been reported by then.
    said_on     date NOT NULL,
    kept_on     date NOT NULL CHECK (kept_on >= said_on),
    -- The days that it is about, and the first evening on which they are known.
    from_day    date NOT NULL,
    to_day      date NOT NULL,
    due         date NOT NULL,
    -- The target that it is about: its kind and number.
    target      jsonb,
    probability double precision CHECK (probability BETWEEN 0 AND 1),
    low         double precision,
    high        double precision,
    -- What came: money, conversions; of a probability 1 where it came true, else 0.
    truth       double precision,
    -- What it was about was changed before it could come true.
    void        boolean NOT NULL DEFAULT false,
    PRIMARY KEY (account_id, id),
    UNIQUE (account_id, kind, campaign_id, said_on),
    FOREIGN KEY (account_id, campaign_id) REFERENCES campaign ON DELETE CASCADE,
    CHECK ((probability IS NULL) = (low IS NOT NULL) AND (low IS NULL) = (high IS NULL))
);
CREATE INDEX statement_due ON statement (account_id, due) WHERE truth IS NULL AND NOT void;

CREATE TRIGGER added AFTER INSERT ON statement REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION decided_changed();
CREATE TRIGGER removed AFTER DELETE ON statement REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION decided_changed();
CREATE TRIGGER altered AFTER UPDATE ON statement REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION decided_changed();

-- The last evening of which it was asked what can be stated, be it nothing.
ALTER TABLE account ADD COLUMN stated_until date;
