-- What a campaign is called in plans: by its channel too where its name alone is not enough.
CREATE VIEW campaign_label AS
SELECT c.account_id, c.id AS campaign_id,
       CASE WHEN count(*) OVER (PARTITION BY c.account_id, c.name) > 1 THEN c.name || ' on ' || ch.name ELSE c.name END AS label
FROM campaign c JOIN channel ch ON ch.account_id = c.account_id AND ch.id = c.channel_id;

-- The campaigns of a plan's lines, by what they were called when it was saved: a rename loses none of them.
ALTER TABLE plan ADD COLUMN campaigns jsonb NOT NULL DEFAULT '{}';

UPDATE plan p SET campaigns = coalesce(
    (SELECT jsonb_object_agg(l.label, l.campaign_id) FROM campaign_label l
     WHERE l.account_id = p.account_id AND l.label IN (SELECT line ->> 'id' FROM jsonb_array_elements(p.body -> 'lines') line)), '{}');
