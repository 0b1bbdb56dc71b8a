-- What a channel has set besides a change, since a strategy is shared: an entry of its own for each campaign.
ALTER TABLE change ADD COLUMN implied_by bigint;
ALTER TABLE change ADD FOREIGN KEY (account_id, implied_by) REFERENCES change;
CREATE INDEX change_implied_by ON change (account_id, implied_by) WHERE implied_by IS NOT NULL;
