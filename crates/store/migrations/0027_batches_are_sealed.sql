-- What a batch asks its channel for, from the first time on: under one key the same is asked again, word for word, until the answer
-- is known.
ALTER TABLE change_batch ADD COLUMN body jsonb;
