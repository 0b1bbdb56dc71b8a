-- Money that a change is expected to add to what is spent a day, beside what it adds to budgets as they are written.
ALTER TABLE change ADD COLUMN spend_a_day bigint;
