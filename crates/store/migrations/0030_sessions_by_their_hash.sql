-- Only the hash of a session's id is kept: who reads the table can't use what is in it.
UPDATE session SET id = encode(sha256(convert_to(id, 'UTF8')), 'hex');
