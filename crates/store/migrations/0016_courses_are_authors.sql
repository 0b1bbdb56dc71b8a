-- A change knows the course that it is a step of. Steps after the first are put in the tray by the course itself, which
-- is origin 'course': it goes on when the person who decided on it has left.
ALTER TABLE change ADD COLUMN course_id bigint;
ALTER TABLE change ADD FOREIGN KEY (account_id, course_id) REFERENCES course;
CREATE INDEX change_of_course ON change (account_id, course_id, id) WHERE course_id IS NOT NULL;

UPDATE change x SET course_id = c.id, origin = CASE WHEN x.origin = 'course' THEN 'hand' ELSE x.origin END
FROM course c WHERE c.account_id = x.account_id AND c.change_id = x.id;
UPDATE change x SET created_by = NULL, course_id = (
    SELECT max(c.id) FROM course c WHERE c.account_id = x.account_id AND c.campaign_id = x.campaign_id AND c.created_at <= x.created_at)
WHERE x.origin = 'course';

ALTER TABLE course DROP COLUMN change_id;

-- What a change does, in words: what a search of the logbook finds.
ALTER TABLE change ADD COLUMN told text NOT NULL DEFAULT '';
CREATE INDEX change_answered ON change (account_id, answered_at DESC, id DESC) WHERE state IN ('made', 'refused');
CREATE INDEX change_undoes ON change (account_id, undoes) WHERE undoes IS NOT NULL;
