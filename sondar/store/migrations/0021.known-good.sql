-- Recordings of vehicles that were in order, kept to hold others of the same make and model against.
-- depends: 0020.sheet-pictures

CREATE TABLE known_good (
    recording_id uuid PRIMARY KEY REFERENCES recording,
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    account_id uuid DEFAULT current_account() REFERENCES account,
    said text NOT NULL CHECK (length(said) BETWEEN 1 AND 200),
    created_at timestamptz NOT NULL DEFAULT now()
);
COMMENT ON COLUMN known_good.said IS 'Under which conditions it is good, in words.';
ALTER TABLE known_good ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_workshop ON known_good TO sondar_app
    USING (workshop_id = current_workshop()) WITH CHECK (workshop_id = current_workshop());
GRANT SELECT, INSERT, DELETE ON known_good TO sondar_app;
GRANT UPDATE (said) ON known_good TO sondar_app;
