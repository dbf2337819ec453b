-- Tables and columns are called what the trade calls them, and a diagnosis keeps what was said of it by which version.
-- Appended evidence keeps the words it was written in; core/former_names reads them.
-- depends: 0004.charts

ALTER TABLE chase RENAME TO circuit_diagnosis;
ALTER TABLE circuit_diagnosis RENAME COLUMN carried TO triage_prior;
COMMENT ON COLUMN circuit_diagnosis.triage_prior IS 'Belief of the triage when the diagnosis was opened: suspect id -> probability.';
ALTER TABLE verdict RENAME TO conclusion;
ALTER TABLE retraction RENAME TO voided_reading;
ALTER TABLE chart RENAME TO diagnostic_procedure;
COMMENT ON TABLE diagnostic_procedure IS 'A procedure as it was entered; where a job stands in it follows from the readings.';
ALTER TABLE reading RENAME COLUMN chase_id TO diagnosis_id;
ALTER TABLE exclusion RENAME COLUMN chase_id TO diagnosis_id;
ALTER TABLE conclusion RENAME COLUMN chase_id TO diagnosis_id;
ALTER TABLE workshop RENAME COLUMN boldness TO decision_threshold;
ALTER TABLE job RENAME COLUMN stand_in TO simulated_vehicle;

UPDATE workshop SET tools = ARRAY(
    SELECT CASE t WHEN 'senses' THEN 'functional-check' WHEN 'scan-value' THEN 'live-data' WHEN 'answers' THEN 'module-communication'
                  WHEN 'clamp' THEN 'current-clamp' WHEN 'feed-test' THEN 'loaded-circuit-test' WHEN 'weak-pull' THEN 'line-state'
                  WHEN 'probe-ground' THEN 'applied-ground' WHEN 'probe-supply' THEN 'applied-supply' WHEN 'look' THEN 'visual-inspection'
                  WHEN 'wiggle' THEN 'wiggle-test' WHEN 'swap' THEN 'substitution' WHEN 'clean' THEN 'cleaning'
                  WHEN 'gauge' THEN 'reference-gauge' ELSE t END
    FROM unnest(tools) WITH ORDINALITY AS listed (t, position) ORDER BY position);
ALTER TABLE workshop ALTER COLUMN tools SET DEFAULT '{voltmeter,ohmmeter,lamp-5w,lamp-21w,functional-check}';

ALTER TABLE job DROP CONSTRAINT job_stage_check;
UPDATE job SET stage = CASE stage WHEN 'take in' THEN 'check-in' WHEN 'chase' THEN 'testing' WHEN 'verdict' THEN 'diagnosis' ELSE stage END;
ALTER TABLE job ALTER COLUMN stage SET DEFAULT 'check-in';
ALTER TABLE job ADD CONSTRAINT job_stage_check CHECK (stage IN ('check-in', 'testing', 'diagnosis', 'repair', 'verify', 'closed'));

-- What was said after an entry, and by which version of the engine. Not evidence: it can be worked out again, and then may differ.
CREATE TABLE statement (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    diagnosis_id uuid NOT NULL REFERENCES circuit_diagnosis,
    readings integer NOT NULL,
    last_reading uuid,
    engine text NOT NULL,
    sentence text NOT NULL,
    units text[] NOT NULL,
    certainty double precision NOT NULL CHECK (certainty BETWEEN 0 AND 1),
    created_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX statement_diagnosis ON statement (diagnosis_id, id DESC);
COMMENT ON COLUMN statement.last_reading IS 'Newest reading that had not been voided; with their number it says which evidence was judged.';
CREATE TRIGGER statement_is_appended BEFORE UPDATE OR DELETE ON statement FOR EACH ROW EXECUTE FUNCTION refuse_change();
ALTER TABLE statement ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_workshop ON statement TO sondar_app USING (workshop_id = current_workshop()) WITH CHECK (workshop_id = current_workshop());
GRANT SELECT, INSERT ON statement TO sondar_app;
GRANT USAGE ON SEQUENCE statement_id_seq TO sondar_app;

-- The functions that name those tables.
CREATE OR REPLACE FUNCTION refresh_job_search(wanted uuid) RETURNS void LANGUAGE sql AS $$
    UPDATE job SET search =
        setweight(to_tsvector('simple', concat_ws(' ', v.plate, v.plate_key, v.vin, v.make, v.model, v.engine, job.number::text)), 'A')
        || setweight(to_tsvector('simple', concat_ws(' ', job.codes, (
            SELECT string_agg(DISTINCT concat_ws(' ', s.code, s.failure_type), ' ')
            FROM scanned_code s JOIN code_scan k ON k.id = s.scan_id WHERE k.job_id = wanted))), 'A')
        || setweight(to_tsvector('english', concat_ws(' ', job.complaint, (
            SELECT string_agg(cv.title, ' ') FROM circuit_diagnosis c JOIN circuit_version cv ON cv.id = c.circuit_version_id
            WHERE c.job_id = wanted))), 'B')
        || to_tsvector('english', concat_ws(' ',
            (SELECT string_agg(n.body, ' ') FROM note n WHERE n.job_id = wanted),
            (SELECT string_agg(a.value #>> '{}', ' ') FROM answer a WHERE a.job_id = wanted AND jsonb_typeof(a.value) = 'string'),
            (SELECT string_agg(d.sentence, ' ') FROM conclusion d WHERE d.job_id = wanted)))
    FROM vehicle v WHERE v.id = job.vehicle_id AND job.id = wanted
$$;
