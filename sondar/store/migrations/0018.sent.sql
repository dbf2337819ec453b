-- A link shows what was sent: the page is kept with it. Erasing personal data takes it away, and the names in an estimate.
-- depends: 0017.commands

ALTER TABLE share ADD COLUMN frozen text CHECK (length(frozen) <= 2000000);
COMMENT ON COLUMN share.frozen IS 'What the link shows, as JSON, from the moment in which it was made; null for links that show the job as it stands.';
GRANT UPDATE (frozen) ON share TO sondar_definer;

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
    IF words THEN
        UPDATE note SET body = '(erased)' WHERE job_id = ANY (jobs);
        UPDATE reading SET note = '' WHERE job_id = ANY (jobs) AND note <> '';
    END IF;
    UPDATE job SET erased_at = now(), complaint = CASE WHEN words THEN '' ELSE complaint END WHERE id = ANY (jobs);
    INSERT INTO search_due (workshop_id, job_id) SELECT current_workshop(), unnest(jobs);
    RETURN coalesce(cardinality(jobs), 0);
END $$;
