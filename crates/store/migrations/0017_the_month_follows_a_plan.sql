-- The plan that a month is measured against is followed; "kept" is said of what is computed.
ALTER TABLE plan RENAME COLUMN kept TO followed;
ALTER INDEX plan_kept RENAME TO plan_followed;
