-- How often whoever read an import died of it, or with it: after the second time it is left alone.
ALTER TABLE report_import ADD COLUMN deaths int NOT NULL DEFAULT 0;
