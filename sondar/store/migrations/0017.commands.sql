-- Commands: one at a time per vehicle, kept going by those who give them, and what each module did.
-- depends: 0016.recordings

CREATE TABLE command_run (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    account_id uuid DEFAULT current_account() REFERENCES account,
    job_id uuid NOT NULL REFERENCES job,
    recording_id uuid NOT NULL UNIQUE REFERENCES recording,
    vehicle text NOT NULL CHECK (length(vehicle) BETWEEN 1 AND 200),
    command text NOT NULL DEFAULT '' CHECK (length(command) <= 80),
    title text NOT NULL DEFAULT '' CHECK (length(title) <= 80),
    module text NOT NULL DEFAULT '' CHECK (length(module) <= 80),
    hold boolean NOT NULL DEFAULT false,
    state text NOT NULL DEFAULT 'running' CHECK (state IN ('running', 'ended', 'stopped', 'refused', 'lost')),
    said text NOT NULL DEFAULT '' CHECK (length(said) <= 500),
    position text NOT NULL DEFAULT '' CHECK (length(position) <= 80),
    found text NOT NULL DEFAULT '' CHECK (length(found) <= 200),
    stop boolean NOT NULL DEFAULT false,
    heard_at timestamptz NOT NULL DEFAULT now(),
    held_until timestamptz,
    held_number bigint NOT NULL DEFAULT 0,
    alive_at timestamptz NOT NULL DEFAULT now(),
    created_at timestamptz NOT NULL DEFAULT now()
);
COMMENT ON COLUMN command_run.vehicle IS 'Address of the vehicle interface.';
COMMENT ON COLUMN command_run.found IS 'What a person noticed that it did.';
COMMENT ON COLUMN command_run.heard_at IS 'Last sign of the page that gave it; alive_at of the process that carries it out.';
COMMENT ON COLUMN command_run.held_number IS 'Signs are counted by the page: an older one that comes late holds nothing.';
CREATE UNIQUE INDEX one_run_per_vehicle ON command_run (vehicle) WHERE state = 'running';
CREATE INDEX command_run_job ON command_run (job_id, created_at);
CREATE TRIGGER command_run_is_kept BEFORE DELETE ON command_run FOR EACH ROW EXECUTE FUNCTION refuse_change();
ALTER TABLE command_run ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_workshop ON command_run TO sondar_app USING (workshop_id = current_workshop()) WITH CHECK (workshop_id = current_workshop());
GRANT SELECT, INSERT ON command_run TO sondar_app;
GRANT UPDATE (state, said, position, found, stop, heard_at, held_until, held_number, alive_at) ON command_run TO sondar_app;
