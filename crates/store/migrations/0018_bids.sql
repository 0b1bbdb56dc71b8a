-- What strategies have begun to learn from: campaign-wide changes by their first day.
CREATE INDEX change_begun ON change (account_id, from_day) WHERE state = 'made' AND ad_group_id IS NULL;

-- The account's own table of conditions for bid strategies; none is the one that the program ships with.
ALTER TABLE account ADD COLUMN strategies jsonb;
-- What figures can't tell of a campaign, as somebody answered.
ALTER TABLE campaign ADD COLUMN aim text CHECK (aim IN ('awareness', 'traffic', 'leads', 'sales'));
ALTER TABLE campaign ADD COLUMN fears_runaway boolean NOT NULL DEFAULT false;

ALTER TABLE change DROP CONSTRAINT change_origin_check;
ALTER TABLE change ADD CONSTRAINT change_origin_check CHECK (origin IN ('hand', 'causes', 'plan', 'undo', 'course', 'bids'));

-- What is sold: price, margin, share to keep. What follows a line has its target from it, anew with each change of it.
ALTER TABLE account ADD COLUMN product_lines jsonb NOT NULL DEFAULT '[]';
ALTER TABLE account ADD COLUMN product_line text;
ALTER TABLE campaign ADD COLUMN product_line text;

-- What a course moves: the daily budget, or what stands for the bid (a bid, a strategy's target or highest bid).
ALTER TABLE course ADD COLUMN lever text NOT NULL DEFAULT 'budget' CHECK (lever IN ('budget', 'bid'));
