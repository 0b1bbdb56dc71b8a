-- What came of a change, as it was found on its look-back: in money at the target, with the range that the verdict rests on;
-- no money where too little lies before the change.
ALTER TABLE change
    ADD COLUMN came_of_it text CHECK (came_of_it IN ('worked', 'worse', 'untold')),
    ADD COLUMN came_to bigint,
    ADD COLUMN came_low bigint,
    ADD COLUMN came_high bigint,
    -- Other changes of the same campaign that it could only be judged with.
    ADD COLUMN judged_with bigint NOT NULL DEFAULT 0;

-- What waits already at a place is looked up for each of thousands of changes that a rule puts in the tray.
DROP INDEX change_open;
CREATE INDEX change_open ON change (account_id, campaign_id, (coalesce(item_id, 0))) WHERE state IN ('waiting', 'sending');
