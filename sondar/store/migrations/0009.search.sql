-- What is searched for is put together after an entry has been kept, bounded in length, and never in its way.
-- depends: 0008.same-again

DO $$ DECLARE t text; BEGIN
    FOREACH t IN ARRAY ARRAY['chase_search', 'note_search', 'answer_search', 'verdict_search', 'scanned_code_search', 'job_search_new', 'job_search_edit', 'vehicle_search'] LOOP
        EXECUTE format('DROP TRIGGER IF EXISTS %I ON %I', t, (SELECT c.relname FROM pg_trigger g JOIN pg_class c ON c.oid = g.tgrelid WHERE g.tgname = t));
    END LOOP;
END $$;
DROP FUNCTION job_text_changed();
DROP FUNCTION job_itself_changed();
DROP FUNCTION vehicle_text_changed();
DROP FUNCTION scan_text_changed();
DROP FUNCTION refresh_job_search(uuid);

-- Jobs whose text has changed since it was put together. Only ids: whoever works through it acts for one workshop after another.
CREATE TABLE search_due (
    id bigserial PRIMARY KEY,
    workshop_id uuid NOT NULL,
    job_id uuid NOT NULL
);
CREATE INDEX search_due_job ON search_due (job_id, id);
ALTER TABLE search_due ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_workshop ON search_due TO sondar_app USING (workshop_id = current_workshop()) WITH CHECK (workshop_id = current_workshop());
CREATE POLICY listed ON search_due FOR SELECT TO sondar_definer USING (true);
GRANT SELECT, INSERT, DELETE ON search_due TO sondar_app;
GRANT SELECT ON search_due TO sondar_definer;
GRANT USAGE ON SEQUENCE search_due_id_seq TO sondar_app;

CREATE FUNCTION workshops_with_search_due() RETURNS SETOF uuid
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = pg_catalog, public, pg_temp AS
    $$ SELECT DISTINCT workshop_id FROM search_due $$;
ALTER FUNCTION workshops_with_search_due() OWNER TO sondar_definer;
REVOKE ALL ON FUNCTION workshops_with_search_due() FROM PUBLIC;
GRANT EXECUTE ON FUNCTION workshops_with_search_due() TO sondar_app;

CREATE FUNCTION job_text_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO search_due (workshop_id, job_id) SELECT DISTINCT workshop_id, job_id FROM added;
    RETURN NULL;
END $$;
CREATE FUNCTION job_itself_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO search_due (workshop_id, job_id) VALUES (NEW.workshop_id, NEW.id);
    RETURN NULL;
END $$;
CREATE FUNCTION vehicle_text_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO search_due (workshop_id, job_id) SELECT j.workshop_id, j.id FROM job j WHERE j.vehicle_id = NEW.id;
    RETURN NULL;
END $$;
CREATE TRIGGER diagnosis_search AFTER INSERT ON circuit_diagnosis REFERENCING NEW TABLE AS added FOR EACH STATEMENT EXECUTE FUNCTION job_text_changed();
CREATE TRIGGER note_search AFTER INSERT ON note REFERENCING NEW TABLE AS added FOR EACH STATEMENT EXECUTE FUNCTION job_text_changed();
CREATE TRIGGER answer_search AFTER INSERT ON answer REFERENCING NEW TABLE AS added FOR EACH STATEMENT EXECUTE FUNCTION job_text_changed();
CREATE TRIGGER conclusion_search AFTER INSERT ON conclusion REFERENCING NEW TABLE AS added FOR EACH STATEMENT EXECUTE FUNCTION job_text_changed();
CREATE TRIGGER scan_search AFTER INSERT ON code_scan REFERENCING NEW TABLE AS added FOR EACH STATEMENT EXECUTE FUNCTION job_text_changed();
CREATE TRIGGER job_search_new AFTER INSERT ON job FOR EACH ROW EXECUTE FUNCTION job_itself_changed();
CREATE TRIGGER job_search_edit AFTER UPDATE OF complaint, codes ON job FOR EACH ROW
    WHEN (OLD.complaint IS DISTINCT FROM NEW.complaint OR OLD.codes IS DISTINCT FROM NEW.codes) EXECUTE FUNCTION job_itself_changed();
CREATE TRIGGER vehicle_search AFTER UPDATE OF plate, vin, make, model, engine ON vehicle FOR EACH ROW EXECUTE FUNCTION vehicle_text_changed();

-- The newest texts of a job, so many characters of each kind: the limit of a tsvector is a megabyte, and a page of a book is found by less.
CREATE FUNCTION job_search_text(wanted uuid) RETURNS tsvector LANGUAGE sql STABLE SET search_path = pg_catalog, public, pg_temp AS $$
    SELECT setweight(to_tsvector('simple', concat_ws(' ', v.plate, v.plate_key, v.vin, v.make, v.model, v.engine, j.number::text)), 'A')
        || setweight(to_tsvector('simple', concat_ws(' ', j.codes, (
            SELECT left(string_agg(DISTINCT concat_ws(' ', s.code, s.failure_type), ' '), 40000)
            FROM scanned_code s JOIN code_scan k ON k.id = s.scan_id WHERE k.job_id = wanted))), 'A')
        || setweight(to_tsvector('english', concat_ws(' ', j.complaint, (
            SELECT left(string_agg(cv.title, ' '), 20000) FROM circuit_diagnosis c JOIN circuit_version cv ON cv.id = c.circuit_version_id
            WHERE c.job_id = wanted))), 'B')
        || to_tsvector('english', concat_ws(' ',
            (SELECT left(string_agg(n.body, ' ' ORDER BY n.seq DESC), 200000) FROM note n WHERE n.job_id = wanted),
            (SELECT left(string_agg(a.value #>> '{}', ' ' ORDER BY a.seq DESC), 40000) FROM answer a
             WHERE a.job_id = wanted AND jsonb_typeof(a.value) = 'string'),
            (SELECT left(string_agg(d.sentence, ' ' ORDER BY d.seq DESC), 40000) FROM conclusion d WHERE d.job_id = wanted)))
    FROM job j JOIN vehicle v ON v.id = j.vehicle_id WHERE j.id = wanted
$$;
INSERT INTO search_due (workshop_id, job_id) SELECT workshop_id, id FROM job;
