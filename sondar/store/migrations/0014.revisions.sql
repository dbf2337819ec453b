-- A circuit diagnosis may go on with a newer version of its circuit: more was learned about the vehicle, and no reading is lost.
-- depends: 0013.advice

CREATE TABLE circuit_revision (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    account_id uuid DEFAULT current_account() REFERENCES account,
    job_id uuid NOT NULL REFERENCES job,
    diagnosis_id uuid NOT NULL REFERENCES circuit_diagnosis,
    circuit_version_id uuid NOT NULL REFERENCES circuit_version,
    seq integer NOT NULL,
    client_key uuid NOT NULL,
    said text NOT NULL CHECK (length(said) <= 4000),
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (job_id, seq),
    UNIQUE (job_id, client_key)
);
COMMENT ON COLUMN circuit_revision.said IS 'What was filled in, for the timeline.';
CREATE INDEX circuit_revision_diagnosis ON circuit_revision (diagnosis_id, seq);
CREATE TRIGGER circuit_revision_is_appended BEFORE UPDATE OR DELETE ON circuit_revision FOR EACH ROW EXECUTE FUNCTION refuse_change();
CREATE TRIGGER circuit_revision_tells AFTER INSERT ON circuit_revision FOR EACH ROW EXECUTE FUNCTION tell_job();
ALTER TABLE circuit_revision ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_workshop ON circuit_revision TO sondar_app
    USING (workshop_id = current_workshop()) WITH CHECK (workshop_id = current_workshop());
GRANT SELECT, INSERT ON circuit_revision TO sondar_app;

-- Circuit diagnoses with the version they stand on now.
CREATE VIEW current_diagnosis WITH (security_invoker = true) AS
    SELECT d.id, d.workshop_id, d.job_id, d.seq, d.reason, d.triage_prior, d.created_at,
           coalesce((SELECT r.circuit_version_id FROM circuit_revision r WHERE r.diagnosis_id = d.id ORDER BY r.seq DESC LIMIT 1),
                    d.circuit_version_id) AS circuit_version_id
    FROM circuit_diagnosis d;
GRANT SELECT ON current_diagnosis TO sondar_app;
