-- Saved allocations. The plan itself is the plan file's JSON: one form, checked by the same types.

CREATE TABLE plan (
    account_id bigint NOT NULL REFERENCES account ON DELETE CASCADE,
    id         bigint GENERATED ALWAYS AS IDENTITY,
    name       text NOT NULL CHECK (name <> ''),
    from_day   date NOT NULL,
    to_day     date NOT NULL,
    body       jsonb NOT NULL,
    created_by bigint REFERENCES person ON DELETE SET NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    updated_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (account_id, id)
);
