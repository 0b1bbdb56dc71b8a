-- A token is kept sealed by a key that the database doesn't have. One from before is sealed when a server next starts, and
-- its plain form is then gone from the row.
ALTER TABLE connection ADD COLUMN sealed bytea NOT NULL DEFAULT '';
ALTER TABLE connection ALTER COLUMN token DROP NOT NULL;
