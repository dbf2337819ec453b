-- Workshops, accounts, sessions, sharing and audit; workshop_id on everything, kept apart by row-level security.
-- The application connects as sondar_app, which owns nothing and cannot bypass the policies.
-- depends: 0001.jobs

DO $$ BEGIN
    IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = 'sondar_app') THEN CREATE ROLE sondar_app NOLOGIN; END IF;
END $$;

CREATE FUNCTION current_workshop() RETURNS uuid LANGUAGE sql STABLE AS
    $$ SELECT nullif(current_setting('sondar.workshop', true), '')::uuid $$;
CREATE FUNCTION current_account() RETURNS uuid LANGUAGE sql STABLE AS
    $$ SELECT nullif(current_setting('sondar.account', true), '')::uuid $$;

CREATE TABLE workshop (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    name text NOT NULL CHECK (length(name) BETWEEN 1 AND 80),
    rate_per_hour double precision NOT NULL DEFAULT 90 CHECK (rate_per_hour BETWEEN 0 AND 10000),
    currency text NOT NULL DEFAULT 'EUR' CHECK (length(currency) = 3),
    boldness double precision NOT NULL DEFAULT 0.95 CHECK (boldness BETWEEN 0.6 AND 0.999),
    distance_unit text NOT NULL DEFAULT 'km' CHECK (distance_unit IN ('km', 'mi')),
    temperature_unit text NOT NULL DEFAULT 'C' CHECK (temperature_unit IN ('C', 'F')),
    tools text[] NOT NULL DEFAULT '{voltmeter,ohmmeter,lamp-5w,lamp-21w,senses}',
    version integer NOT NULL DEFAULT 1,
    created_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE account (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    sign_in text NOT NULL CHECK (sign_in = lower(sign_in) AND length(sign_in) BETWEEN 2 AND 80),
    name text NOT NULL CHECK (length(name) BETWEEN 1 AND 80),
    role text NOT NULL CHECK (role IN ('read-only', 'technician', 'lead')),
    password_hash text NOT NULL,
    active boolean NOT NULL DEFAULT true,
    theme text NOT NULL DEFAULT 'system' CHECK (theme IN ('system', 'light', 'dark')),
    created_at timestamptz NOT NULL DEFAULT now(),
    password_changed_at timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX account_sign_in ON account (sign_in);

CREATE TABLE session (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    account_id uuid NOT NULL REFERENCES account,
    token_sha256 bytea NOT NULL UNIQUE,
    csrf text NOT NULL,
    agent text NOT NULL DEFAULT '' CHECK (length(agent) <= 200),
    address text NOT NULL DEFAULT '' CHECK (length(address) <= 60),
    created_at timestamptz NOT NULL DEFAULT now(),
    seen_at timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz NOT NULL,
    revoked_at timestamptz
);
CREATE INDEX session_account ON session (account_id);

-- Before anyone is known there is no workshop: attempts are counted by name and by address, and hold nothing else.
CREATE TABLE sign_in_attempt (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    sign_in text NOT NULL,
    address text NOT NULL,
    succeeded boolean NOT NULL,
    at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX sign_in_attempt_name ON sign_in_attempt (sign_in, at);
CREATE INDEX sign_in_attempt_address ON sign_in_attempt (address, at);

CREATE TABLE audit (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    account_id uuid DEFAULT current_account() REFERENCES account,
    action text NOT NULL,
    subject text NOT NULL DEFAULT '',
    address text NOT NULL DEFAULT '',
    at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX audit_workshop ON audit (workshop_id, id DESC);

CREATE TABLE meter (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    name text NOT NULL CHECK (length(name) BETWEEN 1 AND 60),
    volts_percent double precision NOT NULL DEFAULT 0.5 CHECK (volts_percent BETWEEN 0 AND 20),
    volts_floor double precision NOT NULL DEFAULT 0.02 CHECK (volts_floor BETWEEN 0 AND 2),
    ohms_percent double precision NOT NULL DEFAULT 1 CHECK (ohms_percent BETWEEN 0 AND 20),
    ohms_floor double precision NOT NULL DEFAULT 0.2 CHECK (ohms_floor BETWEEN 0 AND 20),
    active boolean NOT NULL DEFAULT true,
    created_at timestamptz NOT NULL DEFAULT now()
);

-- What is there from before there were workshops goes into one of its own.
INSERT INTO workshop (name) SELECT 'First workshop' WHERE EXISTS (SELECT FROM job);

ALTER TABLE reading DISABLE TRIGGER reading_is_appended;
ALTER TABLE retraction DISABLE TRIGGER retraction_is_appended;
ALTER TABLE exclusion DISABLE TRIGGER exclusion_is_appended;
ALTER TABLE verdict DISABLE TRIGGER verdict_is_appended;
DO $$ DECLARE t text; BEGIN
    FOREACH t IN ARRAY ARRAY['vehicle', 'job', 'reading', 'retraction', 'exclusion', 'verdict'] LOOP
        EXECUTE format('ALTER TABLE %I ADD COLUMN workshop_id uuid DEFAULT current_workshop() REFERENCES workshop', t);
        EXECUTE format('UPDATE %I SET workshop_id = (SELECT id FROM workshop)', t);
        EXECUTE format('ALTER TABLE %I ALTER COLUMN workshop_id SET NOT NULL', t);
    END LOOP;
    FOREACH t IN ARRAY ARRAY['reading', 'retraction', 'exclusion', 'verdict', 'job'] LOOP
        EXECUTE format('ALTER TABLE %I ADD COLUMN account_id uuid DEFAULT current_account() REFERENCES account', t);
    END LOOP;
END $$;
ALTER TABLE reading ENABLE TRIGGER reading_is_appended;
ALTER TABLE retraction ENABLE TRIGGER retraction_is_appended;
ALTER TABLE exclusion ENABLE TRIGGER exclusion_is_appended;
ALTER TABLE verdict ENABLE TRIGGER verdict_is_appended;

-- Circuits without a workshop are the library's, for all.
ALTER TABLE circuit ADD COLUMN workshop_id uuid DEFAULT current_workshop() REFERENCES workshop;
ALTER TABLE circuit DROP CONSTRAINT circuit_slug_key;
ALTER TABLE circuit ADD CONSTRAINT circuit_slug_key UNIQUE NULLS NOT DISTINCT (workshop_id, slug);
ALTER TABLE circuit_version ADD COLUMN workshop_id uuid DEFAULT current_workshop() REFERENCES workshop;

CREATE TABLE vehicle_model (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    workshop_id uuid DEFAULT current_workshop() REFERENCES workshop,
    slug text NOT NULL,
    version integer NOT NULL CHECK (version > 0),
    make text NOT NULL,
    model text NOT NULL,
    first_year integer,
    last_year integer,
    title text NOT NULL,
    source_text text NOT NULL,
    sha256 text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE NULLS NOT DISTINCT (workshop_id, slug, version),
    UNIQUE NULLS NOT DISTINCT (workshop_id, slug, sha256)
);
