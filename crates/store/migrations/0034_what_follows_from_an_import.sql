-- An import whose server dies after its rows are in and before what follows from them is done: another does that.
ALTER TABLE report_import ADD COLUMN followed boolean NOT NULL DEFAULT true;
CREATE INDEX report_import_unfollowed ON report_import (id) WHERE NOT followed;
