-- Facts lie in parts by quarter, which are made ahead, or before an import begins, each in a transaction of its own and without
-- keeping anybody from the parts that stand: a table is made aside and attached. A quarter of which some months stand
-- already goes on by months.
DROP FUNCTION ensure_month(date);

CREATE FUNCTION ensure_part(of date) RETURNS void LANGUAGE plpgsql AS $$
DECLARE
    quarter date := date_trunc('quarter', of);
    month date := date_trunc('month', of);
    first date;
    after date;
    facts text;
    part text;
BEGIN
    FOREACH facts IN ARRAY ARRAY['item_day', 'conversion_day', 'segment_day', 'term_day'] LOOP
        CONTINUE WHEN to_regclass(facts || to_char(quarter, '_YYYY"q"Q')) IS NOT NULL OR to_regclass(facts || to_char(month, '_YYYY_MM')) IS NOT NULL;
        PERFORM pg_advisory_xact_lock(hashtext('ensure_part'));
        IF EXISTS (SELECT FROM generate_series(quarter, quarter + interval '2 months', interval '1 month') AS m
                   WHERE to_regclass(facts || to_char(m, '_YYYY_MM')) IS NOT NULL) THEN
            first := month;
            after := month + interval '1 month';
            part := facts || to_char(month, '_YYYY_MM');
        ELSE
            first := quarter;
            after := quarter + interval '3 months';
            part := facts || to_char(quarter, '_YYYY"q"Q');
        END IF;
        -- Another may have made it while the lock was waited for.
        CONTINUE WHEN to_regclass(part) IS NOT NULL;
        EXECUTE format('CREATE TABLE %I (LIKE %I INCLUDING ALL)', part, facts);
        EXECUTE format('ALTER TABLE %I ATTACH PARTITION %I FOR VALUES FROM (%L) TO (%L)', facts, part, first, after);
    END LOOP;
END $$;
