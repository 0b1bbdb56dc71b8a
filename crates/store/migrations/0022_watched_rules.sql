-- A rule is watched by the look-backs of what it has changed since somebody last switched it on.
ALTER TABLE rule ADD COLUMN watched_from date;

-- What a run tells goes to the rule's author by e-mail as well, where a server for it is set up.
ALTER TABLE rule_run
    ADD COLUMN mail text NOT NULL DEFAULT 'none' CHECK (mail IN ('none', 'due', 'sent', 'failed')),
    ADD COLUMN mail_attempts int NOT NULL DEFAULT 0,
    ADD COLUMN mail_not_before timestamptz NOT NULL DEFAULT now();
CREATE INDEX rule_run_mail ON rule_run (id) WHERE mail = 'due';
CREATE INDEX change_made ON change (account_id, from_day) WHERE state = 'made';
