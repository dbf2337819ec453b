-- Databases of the first weeks differ from new ones: three migrations were changed after they had been applied. Here they become the same.
-- depends: 0007.guards

CREATE EXTENSION IF NOT EXISTS btree_gin;
DROP INDEX IF EXISTS job_search;
CREATE INDEX job_search ON job USING gin (workshop_id, search);
CREATE OR REPLACE FUNCTION search_jobs(wanted tsquery, below integer, wanted_stage text, most integer) RETURNS TABLE (id uuid)
    LANGUAGE plpgsql STABLE SECURITY DEFINER SET search_path = pg_catalog, public, pg_temp AS $$
DECLARE
    walked CONSTANT integer := 2000;
    lowest integer;
    found_now integer;
BEGIN
    RETURN QUERY
        SELECT n.id FROM (
            SELECT j.id, j.number, j.stage, j.search FROM job j
            WHERE j.workshop_id = current_workshop() AND j.number < coalesce(below, 2147483647) ORDER BY j.number DESC LIMIT walked
        ) n
        WHERE n.search @@ wanted AND (wanted_stage IS NULL OR n.stage = wanted_stage) ORDER BY n.number DESC LIMIT most;
    GET DIAGNOSTICS found_now = ROW_COUNT;
    IF found_now >= most THEN
        RETURN;
    END IF;
    SELECT j.number INTO lowest FROM job j
    WHERE j.workshop_id = current_workshop() AND j.number < coalesce(below, 2147483647) ORDER BY j.number DESC OFFSET walked - 1 LIMIT 1;
    IF lowest IS NULL THEN
        RETURN;
    END IF;
    RETURN QUERY
        WITH hit AS MATERIALIZED (
            SELECT j.id, j.number FROM job j
            WHERE j.workshop_id = current_workshop() AND j.search @@ wanted AND (wanted_stage IS NULL OR j.stage = wanted_stage)
        )
        SELECT h.id FROM hit h WHERE h.number < lowest ORDER BY h.number DESC LIMIT most - found_now;
END $$;
ALTER FUNCTION search_jobs(tsquery, integer, text, integer) OWNER TO sondar_definer;
REVOKE ALL ON FUNCTION search_jobs(tsquery, integer, text, integer) FROM PUBLIC;
GRANT EXECUTE ON FUNCTION search_jobs(tsquery, integer, text, integer) TO sondar_app;

UPDATE workshop SET tools = tools || ARRAY(SELECT t FROM unnest('{thermometer,new-fuse}'::text[]) t WHERE NOT t = ANY (tools))
WHERE NOT tools @> '{thermometer,new-fuse}';
ALTER TABLE workshop ALTER COLUMN tools SET DEFAULT '{voltmeter,ohmmeter,lamp-5w,lamp-21w,functional-check,thermometer,new-fuse}';
