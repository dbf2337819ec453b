-- Makers' step charts, and readings that take the place of a mistaken one.
-- depends: 0003.intake

CREATE TABLE chart (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    slug text NOT NULL,
    title text NOT NULL CHECK (length(title) BETWEEN 1 AND 200),
    source_text text NOT NULL,
    sha256 text NOT NULL,
    account_id uuid DEFAULT current_account() REFERENCES account,
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (workshop_id, slug, sha256)
);
CREATE INDEX chart_slug ON chart (workshop_id, slug, created_at DESC);
COMMENT ON TABLE chart IS 'A chart as it was entered; where a job stands in it follows from the readings.';
CREATE TRIGGER chart_is_appended BEFORE UPDATE OR DELETE ON chart FOR EACH ROW EXECUTE FUNCTION refuse_change();
ALTER TABLE chart ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_workshop ON chart TO sondar_app USING (workshop_id = current_workshop()) WITH CHECK (workshop_id = current_workshop());
GRANT SELECT, INSERT ON chart TO sondar_app;
