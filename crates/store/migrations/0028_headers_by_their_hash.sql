-- A header row may be longer than an index can keep: sources are told apart by its SHA-256.
UPDATE report_mapping SET source = encode(sha256(convert_to(source, 'UTF8')), 'hex');
