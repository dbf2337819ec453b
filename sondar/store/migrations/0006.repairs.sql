-- Repairs of a circuit diagnosis: readings before one speak about the vehicle before it.
-- depends: 0005.words

CREATE TABLE repair (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    account_id uuid DEFAULT current_account() REFERENCES account,
    job_id uuid NOT NULL REFERENCES job,
    diagnosis_id uuid NOT NULL REFERENCES circuit_diagnosis,
    seq integer NOT NULL,
    client_key uuid NOT NULL,
    units text[] NOT NULL CHECK (cardinality(units) BETWEEN 1 AND 12),
    action text NOT NULL CHECK (length(action) BETWEEN 1 AND 1000),
    substituted boolean NOT NULL DEFAULT false,
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (job_id, seq),
    UNIQUE (job_id, client_key)
);
CREATE INDEX repair_diagnosis ON repair (diagnosis_id, seq);
CREATE TRIGGER repair_is_appended BEFORE UPDATE OR DELETE ON repair FOR EACH ROW EXECUTE FUNCTION refuse_change();
CREATE TRIGGER repair_tells AFTER INSERT ON repair FOR EACH ROW EXECUTE FUNCTION tell_job();
ALTER TABLE repair ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_workshop ON repair TO sondar_app USING (workshop_id = current_workshop()) WITH CHECK (workshop_id = current_workshop());
GRANT SELECT, INSERT ON repair TO sondar_app;

-- Every workshop has a thermometer and fuses.
UPDATE workshop SET tools = tools || ARRAY(SELECT t FROM unnest('{thermometer,new-fuse}'::text[]) t WHERE NOT t = ANY (tools));
ALTER TABLE workshop ALTER COLUMN tools SET DEFAULT '{voltmeter,ohmmeter,lamp-5w,lamp-21w,functional-check,thermometer,new-fuse}';
