-- What a month is to spend: the account, or one of its channels.
CREATE TABLE month_budget (
    account_id bigint NOT NULL REFERENCES account ON DELETE CASCADE,
    -- Its first day.
    month      date NOT NULL CHECK (extract(day FROM month) = 1),
    -- None: the whole account.
    channel_id bigint,
    -- In millionths of the currency.
    amount     bigint NOT NULL CHECK (amount > 0),
    UNIQUE NULLS NOT DISTINCT (account_id, month, channel_id),
    FOREIGN KEY (account_id, channel_id) REFERENCES channel ON DELETE CASCADE
);
