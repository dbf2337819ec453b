-- Outside programs sign in with a token; personal data can be erased; examples can be hidden; one person alone needs no roles.
-- depends: 0011.tells

ALTER TABLE account ADD COLUMN program boolean NOT NULL DEFAULT false;
COMMENT ON COLUMN account.program IS 'An outside program with a token: it never signs in with a password, and what it enters stands under its name.';
GRANT SELECT (program) ON account TO sondar_app;

ALTER TABLE workshop ADD COLUMN alone boolean NOT NULL DEFAULT false;
ALTER TABLE workshop ADD COLUMN show_examples boolean NOT NULL DEFAULT true;
ALTER TABLE workshop ADD COLUMN photo_quota_mb integer NOT NULL DEFAULT 5000 CHECK (photo_quota_mb BETWEEN 10 AND 1000000);
ALTER TABLE workshop ADD COLUMN erase_after_months integer CHECK (erase_after_months BETWEEN 1 AND 240);
COMMENT ON COLUMN workshop.erase_after_months IS 'Personal data of a closed job is erased so many months after its last entry; NULL for never.';

ALTER TABLE job ADD COLUMN erased_at timestamptz;
COMMENT ON COLUMN job.erased_at IS 'When plate, VIN, photographs and words that may name people were erased; the technical record stays.';

-- Evidence is only ever added to. Erasing personal data is the one exception: it happens inside a function of the role that can do nothing else.
CREATE OR REPLACE FUNCTION refuse_change() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF current_user <> 'sondar_definer' THEN
        RAISE EXCEPTION 'evidence in % is appended, never changed: add a later entry', TG_TABLE_NAME;
    ELSIF TG_OP = 'DELETE' THEN
        RETURN OLD;
    END IF;
    RETURN NEW;
END $$;

DO $$ DECLARE t text; BEGIN
    FOREACH t IN ARRAY ARRAY['vehicle', 'photo', 'answer', 'note', 'reading'] LOOP
        EXECUTE format('CREATE POLICY erased ON %I TO sondar_definer USING (workshop_id = current_workshop()) WITH CHECK (workshop_id = current_workshop())', t);
        EXECUTE format('GRANT SELECT ON %I TO sondar_definer', t);
    END LOOP;
END $$;
CREATE POLICY erased ON job FOR UPDATE TO sondar_definer USING (workshop_id = current_workshop()) WITH CHECK (workshop_id = current_workshop());
CREATE POLICY refreshed ON search_due FOR INSERT TO sondar_definer WITH CHECK (workshop_id = current_workshop());
GRANT UPDATE (plate, vin) ON vehicle TO sondar_definer;
GRANT UPDATE (value) ON answer TO sondar_definer;
GRANT UPDATE (body) ON note TO sondar_definer;
GRANT UPDATE (note) ON reading TO sondar_definer;
GRANT UPDATE (complaint, erased_at) ON job TO sondar_definer;
GRANT UPDATE (revoked_at) ON share TO sondar_definer;
GRANT DELETE ON photo TO sondar_definer;
GRANT INSERT ON search_due TO sondar_definer;
GRANT USAGE ON SEQUENCE search_due_id_seq TO sondar_definer;

-- Number of jobs of the vehicle that were erased. words: also what was written freely, which may name people.
CREATE FUNCTION erase_personal(of_vehicle uuid, words boolean) RETURNS integer
    LANGUAGE plpgsql SECURITY DEFINER SET search_path = pg_catalog, public, pg_temp AS $$
DECLARE jobs uuid[];
BEGIN
    SELECT array_agg(id) INTO jobs FROM job WHERE vehicle_id = of_vehicle AND workshop_id = current_workshop();
    UPDATE vehicle SET plate = '', vin = '' WHERE id = of_vehicle;
    DELETE FROM photo WHERE job_id = ANY (jobs);
    UPDATE share SET revoked_at = now() WHERE job_id = ANY (jobs) AND revoked_at IS NULL;
    UPDATE answer SET value = '""' WHERE job_id = ANY (jobs)
        AND (field IN ('plate', 'vin') OR words AND field IN ('complaint', 'conditions_text', 'recent_work_text'));
    IF words THEN
        UPDATE note SET body = '(erased)' WHERE job_id = ANY (jobs);
        UPDATE reading SET note = '' WHERE job_id = ANY (jobs) AND note <> '';
    END IF;
    UPDATE job SET erased_at = now(), complaint = CASE WHEN words THEN '' ELSE complaint END WHERE id = ANY (jobs);
    INSERT INTO search_due (workshop_id, job_id) SELECT current_workshop(), unnest(jobs);
    RETURN coalesce(cardinality(jobs), 0);
END $$;
CREATE FUNCTION workshops_that_erase() RETURNS SETOF uuid
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = pg_catalog, public, pg_temp AS
    $$ SELECT id FROM workshop WHERE erase_after_months IS NOT NULL $$;
ALTER FUNCTION erase_personal(uuid, boolean) OWNER TO sondar_definer;
ALTER FUNCTION workshops_that_erase() OWNER TO sondar_definer;
REVOKE ALL ON FUNCTION erase_personal(uuid, boolean), workshops_that_erase() FROM PUBLIC;
GRANT EXECUTE ON FUNCTION erase_personal(uuid, boolean), workshops_that_erase() TO sondar_app;
