-- The week's advice is told from plans that somebody chose: what it adds to budgets is out of what they leave unspent.
ALTER TABLE change DROP CONSTRAINT change_origin_check;
ALTER TABLE change ADD CONSTRAINT change_origin_check CHECK (origin IN ('hand', 'causes', 'plan', 'week', 'undo', 'course', 'bids'));
