-- What a campaign is for among its peers, where somebody said so; otherwise it is guessed.
ALTER TABLE campaign ADD COLUMN purpose text CHECK (purpose IN ('brand', 'generic', 'prospecting', 'retargeting'));

-- Peers chosen by hand.
CREATE TABLE campaign_peer (
    account_id  bigint NOT NULL,
    campaign_id bigint NOT NULL,
    peer_id     bigint NOT NULL CHECK (peer_id <> campaign_id),
    PRIMARY KEY (account_id, campaign_id, peer_id),
    FOREIGN KEY (account_id, campaign_id) REFERENCES campaign ON DELETE CASCADE,
    FOREIGN KEY (account_id, peer_id) REFERENCES campaign ON DELETE CASCADE
);

-- The least difference from a target that anybody would act on.
ALTER TABLE account ADD COLUMN least_difference double precision NOT NULL DEFAULT 0.05
    CHECK (least_difference >= 0 AND least_difference <= 0.5);

-- What was decided in the product itself and goes to no channel: targets, purposes, peers, what counts.
CREATE TABLE decision (
    account_id  bigint NOT NULL REFERENCES account ON DELETE CASCADE,
    id          bigint GENERATED ALWAYS AS IDENTITY,
    -- None: of the account.
    campaign_id bigint,
    what        text NOT NULL,
    was         jsonb NOT NULL,
    set_to      jsonb NOT NULL,
    created_by  bigint REFERENCES person ON DELETE SET NULL,
    created_at  timestamptz NOT NULL DEFAULT now(),
    -- The decision that this one takes back.
    undoes      bigint,
    PRIMARY KEY (account_id, id),
    FOREIGN KEY (account_id, campaign_id) REFERENCES campaign ON DELETE CASCADE
);

-- Changes in force that have not been judged yet: every page asks for them.
CREATE INDEX change_in_force ON change (account_id, look_back) WHERE state = 'made';
