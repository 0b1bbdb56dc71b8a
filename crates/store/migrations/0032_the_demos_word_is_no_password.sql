-- The demo's analyst signs in by a server's --demo only: the word that everybody knows was a password until now.
UPDATE person SET password_hash = 'none' WHERE email = 'analyst@amberfold.example';
