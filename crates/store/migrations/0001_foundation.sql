-- People, accounts and who may see them. Every table that belongs to an account has account_id first in
-- its key: who may see a row, and where it would be stored if the data were spread over machines.

CREATE TABLE person (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    email         text NOT NULL UNIQUE CHECK (email = lower(email) AND email LIKE '%_@_%'),
    name          text NOT NULL CHECK (name <> ''),
    password_hash text NOT NULL,
    created_at    timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE account (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    slug        text NOT NULL UNIQUE CHECK (slug ~ '^[a-z0-9][a-z0-9-]*$'),
    name        text NOT NULL CHECK (name <> ''),
    currency    text NOT NULL CHECK (currency ~ '^[A-Z]{3}$'),
    time_zone   text NOT NULL,
    -- At most one of the two: what the account's campaigns aim at unless they say otherwise.
    target_cpa  double precision CHECK (target_cpa > 0),
    target_roas double precision CHECK (target_roas > 0),
    created_at  timestamptz NOT NULL DEFAULT now(),
    CHECK (target_cpa IS NULL OR target_roas IS NULL)
);

CREATE TABLE membership (
    account_id bigint NOT NULL REFERENCES account ON DELETE CASCADE,
    person_id  bigint NOT NULL REFERENCES person ON DELETE CASCADE,
    role       text NOT NULL CHECK (role IN ('viewer', 'analyst', 'admin')),
    PRIMARY KEY (account_id, person_id)
);
CREATE INDEX membership_person ON membership (person_id);

CREATE TABLE session (
    id         text PRIMARY KEY,
    data       jsonb NOT NULL,
    expires_at timestamptz NOT NULL
);
CREATE INDEX session_expiry ON session (expires_at);
