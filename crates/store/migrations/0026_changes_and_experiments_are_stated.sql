-- What campaigns will bring at other budgets, and what experiments will measure, is stated too.
ALTER TABLE statement DROP CONSTRAINT statement_kind_check;
ALTER TABLE statement ADD CONSTRAINT statement_kind_check
    CHECK (kind IN ('month_spend', 'completed', 'over_target', 'results', 'new_budget', 'measured'));
