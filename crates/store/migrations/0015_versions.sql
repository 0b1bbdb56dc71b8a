-- Whatever is computed of an account is kept for as long as what it is made of has not changed, so every such thing
-- has to be counted. Structure counts as figures: who writes both, a fetch or an import, holds that row anyhow. What
-- people decide, and what is sent, has a row of its own, so that a long import holds up nobody.
CREATE TABLE account_decided (
    account_id bigint PRIMARY KEY REFERENCES account ON DELETE CASCADE,
    version    bigint NOT NULL
);
CREATE FUNCTION decided_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO account_decided (account_id, version) SELECT DISTINCT account_id, 1 FROM changed ORDER BY 1
    ON CONFLICT (account_id) DO UPDATE SET version = account_decided.version + 1;
    RETURN NULL;
EXCEPTION WHEN foreign_key_violation THEN
    -- The account itself is being removed.
    RETURN NULL;
END $$;

CREATE FUNCTION account_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF NEW.figures = OLD.figures AND NEW IS DISTINCT FROM OLD THEN
        NEW.figures := OLD.figures + 1;
    END IF;
    RETURN NEW;
END $$;
CREATE TRIGGER altered BEFORE UPDATE ON account FOR EACH ROW EXECUTE FUNCTION account_changed();

-- How far a job is changes many times a second; only where it stands is kept.
CREATE FUNCTION job_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO account_decided (account_id, version) VALUES (NEW.account_id, 1)
    ON CONFLICT (account_id) DO UPDATE SET version = account_decided.version + 1;
    RETURN NULL;
END $$;
CREATE TRIGGER added AFTER INSERT ON sync_job FOR EACH ROW EXECUTE FUNCTION job_changed();
CREATE TRIGGER altered AFTER UPDATE OF state ON sync_job FOR EACH ROW WHEN (NEW.state <> OLD.state)
    EXECUTE FUNCTION job_changed();

DO $$
DECLARE
    t text;
    f text;
BEGIN
    FOREACH t IN ARRAY ARRAY['channel', 'campaign', 'ad_group', 'item', 'campaign_peer', 'change', 'connection',
                             'course', 'month_budget', 'plan', 'response_curve', 'term'] LOOP
        f := CASE WHEN t IN ('channel', 'campaign', 'ad_group', 'item') THEN 'figures_changed' ELSE 'decided_changed' END;
        -- A new term is new by its figures only.
        IF t <> 'term' THEN
            EXECUTE format('CREATE TRIGGER added AFTER INSERT ON %I REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION %I()', t, f);
            EXECUTE format('CREATE TRIGGER removed AFTER DELETE ON %I REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION %I()', t, f);
        END IF;
        EXECUTE format('CREATE TRIGGER altered AFTER UPDATE ON %I REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION %I()', t, f);
    END LOOP;
END $$;
