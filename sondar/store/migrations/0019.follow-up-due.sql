-- The day on which a repair is still to be asked after stands with the job, so that the list of jobs due reads those and no others.
-- Search uses its index again.
-- Erasing personal data takes the name out of changed settings, and with the words those of removed parts and bypasses.
-- depends: 0018.sent

ALTER TABLE job ADD COLUMN follow_up_due date;
COMMENT ON COLUMN job.follow_up_due IS 'Copy of the latest answers: the day on which it is to be asked after; null if no day was agreed or somebody has said how it went.';
GRANT UPDATE (follow_up_due) ON job TO sondar_app;

CREATE FUNCTION follow_up_changed() RETURNS trigger LANGUAGE plpgsql SET search_path = pg_catalog, public, pg_temp AS $$
BEGIN
    UPDATE job j SET follow_up_due = CASE
        WHEN coalesce((SELECT a.value #>> '{}' FROM answer a WHERE a.job_id = j.id AND a.field = 'follow_up_result'
                       ORDER BY a.seq DESC LIMIT 1), '') = '' THEN
            (SELECT CASE WHEN a.value #>> '{}' ~ '^\d{4}-\d\d-\d\d$' THEN (a.value #>> '{}')::date END
             FROM answer a WHERE a.job_id = j.id AND a.field = 'follow_up' ORDER BY a.seq DESC LIMIT 1) END
    WHERE j.id = NEW.job_id;
    RETURN NULL;
END $$;
CREATE TRIGGER answer_follow_up_due AFTER INSERT ON answer FOR EACH ROW WHEN (NEW.field IN ('follow_up', 'follow_up_result'))
    EXECUTE FUNCTION follow_up_changed();

UPDATE job j SET follow_up_due = day FROM (
    SELECT DISTINCT ON (job_id) job_id, CASE WHEN value #>> '{}' ~ '^\d{4}-\d\d-\d\d$' THEN (value #>> '{}')::date END AS day
    FROM answer WHERE field = 'follow_up' ORDER BY job_id, seq DESC) d
WHERE d.job_id = j.id AND coalesce((SELECT a.value #>> '{}' FROM answer a WHERE a.job_id = j.id AND a.field = 'follow_up_result'
                                    ORDER BY a.seq DESC LIMIT 1), '') = '';
CREATE INDEX job_follow_up_due ON job (workshop_id, follow_up_due, number) WHERE follow_up_due IS NOT NULL;
DROP INDEX answer_follow_up;

-- A policy with a condition stands in front of operators that could leak, text search among them, and kept the index of what is searched
-- from being used. The functions of this role that read jobs name the workshop themselves.
ALTER POLICY searched ON job USING (true);

CREATE OR REPLACE FUNCTION erase_personal(of_vehicle uuid, words boolean) RETURNS integer
    LANGUAGE plpgsql SECURITY DEFINER SET search_path = pg_catalog, public, pg_temp AS $$
DECLARE jobs uuid[];
BEGIN
    SELECT array_agg(id) INTO jobs FROM job WHERE vehicle_id = of_vehicle AND workshop_id = current_workshop();
    UPDATE vehicle SET plate = '', vin = '' WHERE id = of_vehicle;
    DELETE FROM photo WHERE job_id = ANY (jobs);
    UPDATE share SET revoked_at = coalesce(revoked_at, now()), frozen = NULL WHERE job_id = ANY (jobs);
    UPDATE answer SET value = '""' WHERE job_id = ANY (jobs)
        AND (field IN ('plate', 'vin', 'estimate_accepted') OR words AND field IN ('complaint', 'conditions_text', 'recent_work_text',
             'opinion_by', 'opinion_said', 'may_drive_why', 'made_it_fail', 'not_done', 'outcome_left', 'customer_words'));
    -- Old value and way back of a setting stay: somebody may need them; who asked for it goes.
    UPDATE answer SET value = coalesce((SELECT jsonb_agg(regexp_replace(line, '^(([^|]*\|){3})[^|]*', '\1 (erased) '))
                                        FROM jsonb_array_elements_text(value) AS line), '[]')
        WHERE job_id = ANY (jobs) AND field = 'settings_changed' AND jsonb_typeof(value) = 'array';
    IF words THEN
        UPDATE answer SET value = '[]' WHERE job_id = ANY (jobs) AND field IN ('removed_parts', 'bypasses');
        UPDATE note SET body = '(erased)' WHERE job_id = ANY (jobs);
        UPDATE reading SET note = '' WHERE job_id = ANY (jobs) AND note <> '';
    END IF;
    UPDATE job SET erased_at = now(), complaint = CASE WHEN words THEN '' ELSE complaint END WHERE id = ANY (jobs);
    INSERT INTO search_due (workshop_id, job_id) SELECT current_workshop(), unnest(jobs);
    RETURN coalesce(cardinality(jobs), 0);
END $$;
