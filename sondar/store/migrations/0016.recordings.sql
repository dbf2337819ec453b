-- Recordings of a job: files as they arrive in pieces, channels and lanes read from them, and what each channel or lane stands for.
-- depends: 0015.follow-up

ALTER TABLE reading DROP CONSTRAINT reading_source_check;
ALTER TABLE reading ADD CONSTRAINT reading_source_check CHECK (source IN ('typed', 'meter', 'recording'));

CREATE TABLE recording (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    account_id uuid DEFAULT current_account() REFERENCES account,
    job_id uuid NOT NULL REFERENCES job,
    seq integer NOT NULL,
    client_key uuid NOT NULL,
    name text NOT NULL CHECK (length(name) BETWEEN 1 AND 200),
    source text NOT NULL CHECK (source IN ('file', 'vehicle', 'meter', 'typed')),
    bytes bigint NOT NULL DEFAULT 0 CHECK (bytes BETWEEN 0 AND 4000000000),
    state text NOT NULL DEFAULT 'arriving' CHECK (state IN ('arriving', 'reading', 'ready', 'failed', 'left')),
    problem text NOT NULL DEFAULT '' CHECK (length(problem) <= 2000),
    mapping jsonb,
    notes text[] NOT NULL DEFAULT '{}',
    began_at timestamptz,
    start_s double precision NOT NULL DEFAULT 0,
    end_s double precision NOT NULL DEFAULT 0,
    samples bigint NOT NULL DEFAULT 0,
    claimed_at timestamptz,
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (job_id, seq),
    UNIQUE (job_id, client_key)
);
COMMENT ON COLUMN recording.state IS 'arriving: pieces of a file come in; reading: it is being read; ready, failed: done; left: given up by a person.';
COMMENT ON COLUMN recording.start_s IS 'First and last moment on the recording''s own clock, in seconds.';

CREATE FUNCTION refuse_change_of_ready() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF OLD.state IN ('ready', 'left') THEN
        RAISE EXCEPTION 'a recording that is ready is evidence and is not changed';
    END IF;
    RETURN NEW;
END $$;
CREATE TRIGGER recording_stays BEFORE UPDATE ON recording FOR EACH ROW EXECUTE FUNCTION refuse_change_of_ready();
CREATE TRIGGER recording_is_kept BEFORE DELETE ON recording FOR EACH ROW EXECUTE FUNCTION refuse_change();
CREATE TRIGGER recording_tells AFTER INSERT OR UPDATE OF state ON recording FOR EACH ROW EXECUTE FUNCTION tell_job();

CREATE TABLE recording_piece (
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    recording_id uuid NOT NULL REFERENCES recording,
    number integer NOT NULL CHECK (number BETWEEN 0 AND 4000),
    body bytea NOT NULL CHECK (octet_length(body) <= 4194304),
    PRIMARY KEY (recording_id, number)
);
ALTER TABLE recording_piece ALTER COLUMN body SET STORAGE EXTERNAL;
COMMENT ON TABLE recording_piece IS 'A file as it arrives; removed when it has been read or given up.';

CREATE TABLE recording_channel (
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    recording_id uuid NOT NULL REFERENCES recording,
    number integer NOT NULL,
    name text NOT NULL CHECK (length(name) BETWEEN 1 AND 200),
    unit text NOT NULL CHECK (length(unit) <= 40),
    role text NOT NULL,
    samples bigint NOT NULL,
    least double precision NOT NULL,
    greatest double precision NOT NULL,
    sample_s double precision NOT NULL,
    clock integer NOT NULL,
    even_start double precision,
    even_step double precision,
    PRIMARY KEY (recording_id, number)
);
COMMENT ON COLUMN recording_channel.clock IS 'Number of the channel whose times it shares; its own if it has times of its own or an even clock.';

CREATE TABLE recording_chunk (
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    recording_id uuid NOT NULL REFERENCES recording,
    channel integer NOT NULL,
    level smallint NOT NULL,
    number integer NOT NULL,
    t bytea,
    y bytea NOT NULL,
    PRIMARY KEY (recording_id, channel, level, number)
);
ALTER TABLE recording_chunk ALTER COLUMN t SET STORAGE EXTERNAL, ALTER COLUMN y SET STORAGE EXTERNAL;
COMMENT ON TABLE recording_chunk IS 'Little-endian: level 0 holds figures as float64, level n the least and greatest of 16^n of them as float32 pairs; t as float64 where the clock is uneven.';

CREATE TABLE recording_lane (
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    recording_id uuid NOT NULL REFERENCES recording,
    number integer NOT NULL,
    name text NOT NULL CHECK (length(name) BETWEEN 1 AND 200),
    changes jsonb NOT NULL,
    commands boolean NOT NULL,
    PRIMARY KEY (recording_id, number)
);

CREATE TABLE recording_mark (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    account_id uuid DEFAULT current_account() REFERENCES account,
    recording_id uuid NOT NULL REFERENCES recording,
    client_key uuid NOT NULL,
    at_s double precision NOT NULL,
    text text NOT NULL CHECK (length(text) BETWEEN 1 AND 500),
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (recording_id, client_key)
);

CREATE TABLE recording_tie (
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    recording_id uuid NOT NULL REFERENCES recording,
    name text NOT NULL CHECK (length(name) BETWEEN 1 AND 200),
    tie jsonb NOT NULL,
    PRIMARY KEY (recording_id, name)
);
COMMENT ON TABLE recording_tie IS 'What a channel measures (instrument, two points) or which control a lane is, in a circuit diagnosis.';

CREATE TABLE recording_mapping (
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    signature text NOT NULL CHECK (length(signature) = 64),
    mapping jsonb NOT NULL,
    used_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (workshop_id, signature)
);
COMMENT ON TABLE recording_mapping IS 'How files with the same first lines were read last: SHA-256 of these lines.';

DO $$
DECLARE t text;
BEGIN
    FOREACH t IN ARRAY ARRAY['recording', 'recording_piece', 'recording_channel', 'recording_chunk', 'recording_lane', 'recording_mark',
                             'recording_tie', 'recording_mapping'] LOOP
        EXECUTE format('ALTER TABLE %I ENABLE ROW LEVEL SECURITY', t);
        EXECUTE format('CREATE POLICY own_workshop ON %I TO sondar_app USING (workshop_id = current_workshop()) WITH CHECK (workshop_id = current_workshop())', t);
        EXECUTE format('GRANT SELECT, INSERT ON %I TO sondar_app', t);
    END LOOP;
    FOREACH t IN ARRAY ARRAY['recording_channel', 'recording_lane', 'recording_mark'] LOOP
        EXECUTE format('CREATE TRIGGER %I BEFORE UPDATE OR DELETE ON %I FOR EACH ROW EXECUTE FUNCTION refuse_change()', t || '_is_appended', t);
    END LOOP;
END $$;
GRANT UPDATE (state, problem, mapping, notes, began_at, start_s, end_s, samples, claimed_at, bytes) ON recording TO sondar_app;
GRANT DELETE ON recording_piece TO sondar_app;
GRANT UPDATE (tie) ON recording_tie TO sondar_app;
GRANT UPDATE (mapping, used_at) ON recording_mapping TO sondar_app;
