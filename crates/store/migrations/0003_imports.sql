-- Report imports: the uploaded file in chunks, how it is read, how far it has come, what it replaced.

CREATE TABLE report_import (
    account_id  bigint NOT NULL REFERENCES account ON DELETE CASCADE,
    id          bigint GENERATED ALWAYS AS IDENTITY,
    file_name   text NOT NULL,
    size        bigint NOT NULL DEFAULT 0,
    -- uploading → mapping → queued → running → done | decide | failed; done → undone; mapping, decide → dropped
    state       text NOT NULL DEFAULT 'uploading'
                CHECK (state IN ('uploading', 'mapping', 'queued', 'running', 'done', 'decide', 'failed', 'undone', 'dropped')),
    mapping     jsonb,
    -- The person chose to import the good rows of a file with errors.
    only_good   boolean NOT NULL DEFAULT false,
    bytes_read  bigint NOT NULL DEFAULT 0,
    rows_read   bigint NOT NULL DEFAULT 0,
    rows_kept   bigint NOT NULL DEFAULT 0,
    error_count bigint NOT NULL DEFAULT 0,
    message     text,
    first_day   date,
    last_day    date,
    created_by  bigint REFERENCES person ON DELETE SET NULL,
    created_at  timestamptz NOT NULL DEFAULT now(),
    finished_at timestamptz,
    -- A worker that dies leaves its claim behind; it is taken over after a while.
    claimed_at  timestamptz,
    PRIMARY KEY (account_id, id)
);
CREATE INDEX report_import_queue ON report_import (id) WHERE state IN ('queued', 'running');

CREATE TABLE report_chunk (
    account_id bigint NOT NULL,
    import_id  bigint NOT NULL,
    seq        int NOT NULL,
    bytes      bytea NOT NULL,
    PRIMARY KEY (account_id, import_id, seq),
    FOREIGN KEY (account_id, import_id) REFERENCES report_import ON DELETE CASCADE
);
-- Uploads are read back once, from start to end: compressing them costs more than it saves.
ALTER TABLE report_chunk ALTER COLUMN bytes SET STORAGE EXTERNAL;

-- The first errors of a file (there may be millions); error_count tells how many there were.
CREATE TABLE report_error (
    account_id  bigint NOT NULL,
    import_id   bigint NOT NULL,
    seq         int NOT NULL,
    line        bigint NOT NULL,
    column_name text NOT NULL,
    found       text NOT NULL,
    expected    text NOT NULL,
    PRIMARY KEY (account_id, import_id, seq),
    FOREIGN KEY (account_id, import_id) REFERENCES report_import ON DELETE CASCADE
);

-- How the headers of a source were read last time.
CREATE TABLE report_mapping (
    account_id bigint NOT NULL REFERENCES account ON DELETE CASCADE,
    -- The header row, in lower case: the same source has the same headers.
    source     text NOT NULL,
    mapping    jsonb NOT NULL,
    PRIMARY KEY (account_id, source)
);

-- Facts that an import replaced, so that it can be undone.
CREATE TABLE replaced_item_day (
    account_id  bigint NOT NULL,
    replaced_by bigint NOT NULL,
    item_id     bigint NOT NULL,
    day         date NOT NULL,
    import_id   bigint NOT NULL,
    impressions bigint NOT NULL,
    clicks      bigint NOT NULL,
    spend       bigint NOT NULL,
    bid         bigint,
    PRIMARY KEY (account_id, replaced_by, item_id, day)
);
CREATE TABLE replaced_conversion_day (
    account_id  bigint NOT NULL,
    replaced_by bigint NOT NULL,
    item_id     bigint NOT NULL,
    day         date NOT NULL,
    age_days    smallint NOT NULL,
    event       text NOT NULL,
    import_id   bigint NOT NULL,
    count       bigint NOT NULL,
    value       bigint NOT NULL,
    PRIMARY KEY (account_id, replaced_by, item_id, day, age_days, event)
);
-- Which campaign-days an import wrote, and the budget that stood there before.
CREATE TABLE import_campaign_day (
    account_id      bigint NOT NULL,
    import_id       bigint NOT NULL,
    campaign_id     bigint NOT NULL,
    day             date NOT NULL,
    budget          bigint,
    replaced_budget bigint,
    PRIMARY KEY (account_id, campaign_id, day, import_id)
);
