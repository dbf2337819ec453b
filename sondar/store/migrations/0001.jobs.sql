-- Vehicles, versioned circuit documents, jobs, and appended evidence.
-- Evidence rows are never updated or deleted: a mistake is a later row (retraction, or an exclusion lifted).

CREATE TABLE vehicle (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    make text NOT NULL CHECK (length(make) BETWEEN 1 AND 60),
    model text NOT NULL DEFAULT '' CHECK (length(model) <= 60),
    year integer CHECK (year BETWEEN 1950 AND 2100),
    plate text NOT NULL DEFAULT '' CHECK (length(plate) <= 20),
    mileage_km integer CHECK (mileage_km BETWEEN 0 AND 5000000),
    created_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE circuit (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    slug text NOT NULL UNIQUE,
    created_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE circuit_version (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    circuit_id uuid NOT NULL REFERENCES circuit,
    version integer NOT NULL CHECK (version > 0),
    title text NOT NULL,
    make text NOT NULL,
    source_text text NOT NULL,
    sha256 text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (circuit_id, version),
    UNIQUE (circuit_id, sha256)
);

CREATE TABLE job (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    number integer GENERATED ALWAYS AS IDENTITY UNIQUE,
    client_key uuid NOT NULL UNIQUE,
    vehicle_id uuid NOT NULL REFERENCES vehicle,
    circuit_version_id uuid NOT NULL REFERENCES circuit_version,
    complaint text NOT NULL CHECK (length(complaint) BETWEEN 1 AND 2000),
    codes text NOT NULL DEFAULT '' CHECK (length(codes) <= 200),
    temperature_c double precision NOT NULL DEFAULT 20 CHECK (temperature_c BETWEEN -50 AND 90),
    stand_in text NOT NULL DEFAULT '',
    last_seq integer NOT NULL DEFAULT 0,
    created_at timestamptz NOT NULL DEFAULT now()
);
COMMENT ON COLUMN job.stand_in IS 'Name under which a bench meter that can be told where its leads are knows this vehicle; empty for most.';

CREATE TABLE reading (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    job_id uuid NOT NULL REFERENCES job,
    seq integer NOT NULL,
    client_key uuid NOT NULL,
    instrument text NOT NULL,
    red text NOT NULL,
    black text NOT NULL,
    controls jsonb NOT NULL,
    unplugged text[] NOT NULL,
    temperature_c double precision NOT NULL,
    entry text NOT NULL,
    value_si double precision,
    state text,
    resolution_si double precision NOT NULL DEFAULT 0,
    source text NOT NULL CHECK (source IN ('typed', 'meter')),
    note text NOT NULL DEFAULT '' CHECK (length(note) <= 2000),
    created_at timestamptz NOT NULL DEFAULT now(),
    CHECK ((value_si IS NULL) <> (state IS NULL)),
    UNIQUE (job_id, seq),
    UNIQUE (job_id, client_key)
);

CREATE TABLE retraction (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    job_id uuid NOT NULL REFERENCES job,
    seq integer NOT NULL,
    client_key uuid NOT NULL,
    reading_id uuid NOT NULL UNIQUE REFERENCES reading,
    reason text NOT NULL CHECK (length(reason) BETWEEN 1 AND 500),
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (job_id, seq),
    UNIQUE (job_id, client_key)
);

CREATE TABLE exclusion (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    job_id uuid NOT NULL REFERENCES job,
    seq integer NOT NULL,
    client_key uuid NOT NULL,
    kind text NOT NULL CHECK (kind IN ('point', 'instrument')),
    name text NOT NULL,
    excluded boolean NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (job_id, seq),
    UNIQUE (job_id, client_key)
);

CREATE TABLE verdict (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    job_id uuid NOT NULL REFERENCES job,
    seq integer NOT NULL,
    client_key uuid NOT NULL,
    sentence text NOT NULL,
    fault_group text NOT NULL,
    units text[] NOT NULL,
    certainty double precision NOT NULL CHECK (certainty BETWEEN 0 AND 1),
    settled boolean NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (job_id, seq),
    UNIQUE (job_id, client_key)
);

CREATE FUNCTION refuse_change() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'evidence in % is appended, never changed: add a later entry', TG_TABLE_NAME;
END $$;

CREATE TRIGGER reading_is_appended BEFORE UPDATE OR DELETE ON reading FOR EACH ROW EXECUTE FUNCTION refuse_change();
CREATE TRIGGER retraction_is_appended BEFORE UPDATE OR DELETE ON retraction FOR EACH ROW EXECUTE FUNCTION refuse_change();
CREATE TRIGGER exclusion_is_appended BEFORE UPDATE OR DELETE ON exclusion FOR EACH ROW EXECUTE FUNCTION refuse_change();
CREATE TRIGGER verdict_is_appended BEFORE UPDATE OR DELETE ON verdict FOR EACH ROW EXECUTE FUNCTION refuse_change();
