-- Intake, codes, chases, notes, photographs, timeline and search.
-- depends: 0002.workshops

ALTER TABLE vehicle ADD COLUMN engine text NOT NULL DEFAULT '' CHECK (length(engine) <= 60);
ALTER TABLE vehicle ADD COLUMN vin text NOT NULL DEFAULT '' CHECK (length(vin) <= 17);
ALTER TABLE vehicle ADD COLUMN plate_key text GENERATED ALWAYS AS (upper(regexp_replace(plate, '[^A-Za-z0-9]', '', 'g'))) STORED;
CREATE INDEX vehicle_plate ON vehicle (workshop_id, plate_key);

ALTER TABLE job ALTER COLUMN circuit_version_id DROP NOT NULL;
ALTER TABLE job ADD COLUMN vehicle_model_id uuid REFERENCES vehicle_model;
ALTER TABLE job ADD COLUMN stage text NOT NULL DEFAULT 'take in'
    CHECK (stage IN ('take in', 'chase', 'verdict', 'repair', 'verify', 'closed'));
ALTER TABLE job ADD COLUMN search tsvector;
ALTER TABLE job ADD COLUMN touched_at timestamptz NOT NULL DEFAULT now();
ALTER TABLE job DROP CONSTRAINT job_complaint_check;
ALTER TABLE job ADD CONSTRAINT job_complaint_check CHECK (length(complaint) <= 2000);
CREATE EXTENSION btree_gin;
CREATE INDEX job_search ON job USING gin (workshop_id, search);
CREATE INDEX job_workshop ON job (workshop_id, number DESC);
CREATE INDEX job_vehicle ON job (vehicle_id);

CREATE TABLE chase (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    job_id uuid NOT NULL REFERENCES job,
    seq integer NOT NULL,
    client_key uuid NOT NULL,
    circuit_version_id uuid NOT NULL REFERENCES circuit_version,
    reason text NOT NULL DEFAULT '' CHECK (length(reason) <= 500),
    carried jsonb NOT NULL DEFAULT '{}',
    account_id uuid DEFAULT current_account() REFERENCES account,
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (job_id, seq),
    UNIQUE (job_id, client_key)
);
COMMENT ON COLUMN chase.carried IS 'Belief of the triage when the bench was opened: fault|severity -> probability.';

INSERT INTO chase (workshop_id, job_id, seq, client_key, circuit_version_id)
    SELECT workshop_id, id, 0, client_key, circuit_version_id FROM job;

ALTER TABLE reading DISABLE TRIGGER reading_is_appended;
ALTER TABLE exclusion DISABLE TRIGGER exclusion_is_appended;
ALTER TABLE verdict DISABLE TRIGGER verdict_is_appended;
DO $$ DECLARE t text; BEGIN
    FOREACH t IN ARRAY ARRAY['reading', 'exclusion', 'verdict'] LOOP
        EXECUTE format('ALTER TABLE %I ADD COLUMN chase_id uuid REFERENCES chase', t);
        EXECUTE format('UPDATE %I t SET chase_id = c.id FROM chase c WHERE c.job_id = t.job_id', t);
        EXECUTE format('ALTER TABLE %I ALTER COLUMN chase_id SET NOT NULL', t);
        EXECUTE format('CREATE INDEX %I ON %I (chase_id, seq)', t || '_chase', t);
    END LOOP;
END $$;
ALTER TABLE reading ENABLE TRIGGER reading_is_appended;
ALTER TABLE exclusion ENABLE TRIGGER exclusion_is_appended;
ALTER TABLE verdict ENABLE TRIGGER verdict_is_appended;
ALTER TABLE reading ADD COLUMN present double precision NOT NULL DEFAULT 1 CHECK (present BETWEEN 0 AND 1);
ALTER TABLE reading ADD COLUMN meter_id uuid REFERENCES meter;
ALTER TABLE reading ADD COLUMN meter_error_si double precision NOT NULL DEFAULT 0;
COMMENT ON COLUMN reading.present IS 'Chance that the fault was there while reading, from what clearing and re-reading had told by then.';

CREATE TABLE answer (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    job_id uuid NOT NULL REFERENCES job,
    seq integer NOT NULL,
    client_key uuid NOT NULL,
    field text NOT NULL CHECK (length(field) <= 40),
    value jsonb NOT NULL,
    account_id uuid DEFAULT current_account() REFERENCES account,
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (job_id, seq),
    UNIQUE (job_id, client_key)
);
CREATE INDEX answer_field ON answer (job_id, field, seq DESC);

CREATE TABLE note (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    job_id uuid NOT NULL REFERENCES job,
    seq integer NOT NULL,
    client_key uuid NOT NULL,
    body text NOT NULL CHECK (length(body) BETWEEN 1 AND 4000),
    account_id uuid DEFAULT current_account() REFERENCES account,
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (job_id, seq),
    UNIQUE (job_id, client_key)
);

CREATE TABLE code_scan (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    job_id uuid NOT NULL REFERENCES job,
    seq integer NOT NULL,
    client_key uuid NOT NULL,
    source text NOT NULL CHECK (source IN ('typed', 'import', 'vehicle')),
    modules jsonb NOT NULL DEFAULT '{}',
    conditions text[] NOT NULL DEFAULT '{}',
    account_id uuid DEFAULT current_account() REFERENCES account,
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (job_id, seq),
    UNIQUE (job_id, client_key)
);
COMMENT ON COLUMN code_scan.modules IS 'Module -> true if it answered; empty when only a list of codes was typed.';

CREATE TABLE scanned_code (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    scan_id uuid NOT NULL REFERENCES code_scan,
    position integer NOT NULL,
    module text NOT NULL DEFAULT '' CHECK (length(module) <= 40),
    code text NOT NULL CHECK (code ~ '^[PCBU][0-3][0-9A-F]{3}$'),
    failure_type text CHECK (failure_type ~ '^[0-9A-F]{2}$'),
    status integer CHECK (status BETWEEN 0 AND 255),
    UNIQUE (scan_id, position)
);

CREATE TABLE clearing (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    job_id uuid NOT NULL REFERENCES job,
    seq integer NOT NULL,
    client_key uuid NOT NULL,
    scan_id uuid NOT NULL REFERENCES code_scan,
    source text NOT NULL CHECK (source IN ('typed', 'vehicle')),
    account_id uuid DEFAULT current_account() REFERENCES account,
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (job_id, seq),
    UNIQUE (job_id, client_key)
);
COMMENT ON COLUMN clearing.scan_id IS 'The list that was there before; without one nothing is cleared.';

CREATE TABLE code_meaning (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    make text NOT NULL CHECK (length(make) <= 60),
    code text NOT NULL CHECK (code ~ '^[PCBU][0-3][0-9A-F]{3}$'),
    title text NOT NULL CHECK (length(title) BETWEEN 1 AND 200),
    about text NOT NULL DEFAULT '' CHECK (length(about) <= 2000),
    account_id uuid DEFAULT current_account() REFERENCES account,
    created_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX code_meaning_code ON code_meaning (workshop_id, code, created_at DESC);

CREATE TABLE photo (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    job_id uuid NOT NULL REFERENCES job,
    seq integer NOT NULL,
    client_key uuid NOT NULL,
    caption text NOT NULL DEFAULT '' CHECK (length(caption) <= 300),
    sha256 text NOT NULL,
    media_type text NOT NULL CHECK (media_type IN ('image/jpeg', 'image/png', 'image/webp')),
    width integer NOT NULL,
    height integer NOT NULL,
    body bytea NOT NULL,
    thumbnail bytea NOT NULL,
    account_id uuid DEFAULT current_account() REFERENCES account,
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (job_id, seq),
    UNIQUE (job_id, client_key)
);

CREATE TABLE share (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    job_id uuid NOT NULL REFERENCES job,
    token_sha256 bytea NOT NULL UNIQUE,
    account_id uuid DEFAULT current_account() REFERENCES account,
    created_at timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz NOT NULL,
    revoked_at timestamptz,
    opened integer NOT NULL DEFAULT 0
);
CREATE INDEX share_job ON share (job_id);

-- Append only, and every entry tells the tablets that look on.
CREATE FUNCTION tell_job() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM pg_notify('sondar_job', NEW.job_id::text || ' ' || NEW.seq::text || ' ' || TG_TABLE_NAME);
    RETURN NULL;
END $$;
DO $$ DECLARE t text; BEGIN
    FOREACH t IN ARRAY ARRAY['chase', 'answer', 'note', 'code_scan', 'scanned_code', 'clearing', 'photo', 'code_meaning', 'audit'] LOOP
        EXECUTE format('CREATE TRIGGER %I BEFORE UPDATE OR DELETE ON %I FOR EACH ROW EXECUTE FUNCTION refuse_change()', t || '_is_appended', t);
    END LOOP;
    FOREACH t IN ARRAY ARRAY['chase', 'answer', 'note', 'code_scan', 'clearing', 'photo', 'reading', 'retraction', 'exclusion', 'verdict'] LOOP
        EXECUTE format('CREATE TRIGGER %I AFTER INSERT ON %I FOR EACH ROW EXECUTE FUNCTION tell_job()', t || '_tells', t);
    END LOOP;
END $$;

-- Search: what a person remembers of a job.
CREATE FUNCTION refresh_job_search(wanted uuid) RETURNS void LANGUAGE sql AS $$
    UPDATE job SET search =
        setweight(to_tsvector('simple', concat_ws(' ', v.plate, v.plate_key, v.vin, v.make, v.model, v.engine, job.number::text)), 'A')
        || setweight(to_tsvector('simple', concat_ws(' ', job.codes, (
            SELECT string_agg(DISTINCT concat_ws(' ', s.code, s.failure_type), ' ')
            FROM scanned_code s JOIN code_scan k ON k.id = s.scan_id WHERE k.job_id = wanted))), 'A')
        || setweight(to_tsvector('english', concat_ws(' ', job.complaint, (
            SELECT string_agg(cv.title, ' ') FROM chase c JOIN circuit_version cv ON cv.id = c.circuit_version_id WHERE c.job_id = wanted))), 'B')
        || to_tsvector('english', concat_ws(' ',
            (SELECT string_agg(n.body, ' ') FROM note n WHERE n.job_id = wanted),
            (SELECT string_agg(a.value #>> '{}', ' ') FROM answer a WHERE a.job_id = wanted AND jsonb_typeof(a.value) = 'string'),
            (SELECT string_agg(d.sentence, ' ') FROM verdict d WHERE d.job_id = wanted)))
    FROM vehicle v WHERE v.id = job.vehicle_id AND job.id = wanted
$$;
CREATE FUNCTION job_text_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM refresh_job_search(NEW.job_id);
    RETURN NULL;
END $$;
CREATE FUNCTION job_itself_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM refresh_job_search(NEW.id);
    RETURN NULL;
END $$;
CREATE FUNCTION vehicle_text_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM refresh_job_search(j.id) FROM job j WHERE j.vehicle_id = NEW.id;
    RETURN NULL;
END $$;
CREATE FUNCTION scan_text_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM refresh_job_search(k.job_id) FROM code_scan k WHERE k.id = NEW.scan_id;
    RETURN NULL;
END $$;
CREATE TRIGGER chase_search AFTER INSERT ON chase FOR EACH ROW EXECUTE FUNCTION job_text_changed();
CREATE TRIGGER note_search AFTER INSERT ON note FOR EACH ROW EXECUTE FUNCTION job_text_changed();
CREATE TRIGGER answer_search AFTER INSERT ON answer FOR EACH ROW EXECUTE FUNCTION job_text_changed();
CREATE TRIGGER verdict_search AFTER INSERT ON verdict FOR EACH ROW EXECUTE FUNCTION job_text_changed();
CREATE TRIGGER scanned_code_search AFTER INSERT ON scanned_code FOR EACH ROW EXECUTE FUNCTION scan_text_changed();
CREATE TRIGGER job_search_new AFTER INSERT ON job FOR EACH ROW EXECUTE FUNCTION job_itself_changed();
CREATE TRIGGER job_search_edit AFTER UPDATE OF complaint, codes ON job FOR EACH ROW EXECUTE FUNCTION job_itself_changed();
CREATE TRIGGER vehicle_search AFTER UPDATE OF plate, vin, make, model, engine ON vehicle FOR EACH ROW EXECUTE FUNCTION vehicle_text_changed();
DO $$ BEGIN PERFORM refresh_job_search(id) FROM job; END $$;

-- Full-text operators are not leak-proof, so under a policy no index would serve them: this function filters by workshop itself.
-- It first walks down the newest jobs, where a common word fills the page at once, and asks the text index only for what lies below.
CREATE FUNCTION search_jobs(wanted tsquery, below integer, wanted_stage text, most integer) RETURNS TABLE (id uuid)
    LANGUAGE plpgsql STABLE SECURITY DEFINER SET search_path = public AS $$
DECLARE
    walked CONSTANT integer := 2000;
    lowest integer;
    found_now integer;
BEGIN
    RETURN QUERY
        SELECT n.id FROM (
            SELECT j.id, j.number, j.stage, j.search FROM job j
            WHERE j.workshop_id = current_workshop() AND j.number < coalesce(below, 2147483647) ORDER BY j.number DESC LIMIT walked
        ) n
        WHERE n.search @@ wanted AND (wanted_stage IS NULL OR n.stage = wanted_stage) ORDER BY n.number DESC LIMIT most;
    GET DIAGNOSTICS found_now = ROW_COUNT;
    IF found_now >= most THEN
        RETURN;
    END IF;
    SELECT j.number INTO lowest FROM job j
    WHERE j.workshop_id = current_workshop() AND j.number < coalesce(below, 2147483647) ORDER BY j.number DESC OFFSET walked - 1 LIMIT 1;
    IF lowest IS NULL THEN
        RETURN;
    END IF;
    RETURN QUERY
        WITH hit AS MATERIALIZED (
            SELECT j.id, j.number FROM job j
            WHERE j.workshop_id = current_workshop() AND j.search @@ wanted AND (wanted_stage IS NULL OR j.stage = wanted_stage)
        )
        SELECT h.id FROM hit h WHERE h.number < lowest ORDER BY h.number DESC LIMIT most - found_now;
END $$;

-- Who it is has to be found out before the workshop is known; these few functions do that and no more.
CREATE FUNCTION find_session(token bytea)
    RETURNS TABLE (session_id uuid, account_id uuid, workshop_id uuid, role text, csrf text, name text, sign_in text, theme text)
    LANGUAGE sql SECURITY DEFINER SET search_path = public AS $$
    UPDATE session SET seen_at = now() WHERE token_sha256 = token AND revoked_at IS NULL AND expires_at > now() AND seen_at < now() - interval '1 minute';
    SELECT s.id, a.id, a.workshop_id, a.role, s.csrf, a.name, a.sign_in, a.theme
    FROM session s JOIN account a ON a.id = s.account_id
    WHERE s.token_sha256 = token AND s.revoked_at IS NULL AND s.expires_at > now() AND a.active
$$;
CREATE FUNCTION find_account(wanted text) RETURNS TABLE (account_id uuid, workshop_id uuid, password_hash text, active boolean)
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public AS
    $$ SELECT id, workshop_id, password_hash, active FROM account WHERE sign_in = wanted $$;
CREATE FUNCTION find_share(token bytea) RETURNS TABLE (share_id uuid, job_id uuid, workshop_id uuid, expires_at timestamptz)
    LANGUAGE sql SECURITY DEFINER SET search_path = public AS $$
    UPDATE share SET opened = opened + 1 WHERE token_sha256 = token AND revoked_at IS NULL AND expires_at > now()
    RETURNING id, job_id, workshop_id, expires_at
$$;
CREATE FUNCTION any_workshop() RETURNS boolean LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public AS
    $$ SELECT EXISTS (SELECT FROM workshop) $$;

DO $$ DECLARE t text; BEGIN
    FOREACH t IN ARRAY ARRAY['account', 'session', 'audit', 'meter', 'vehicle', 'job', 'reading', 'retraction', 'exclusion', 'verdict', 'chase',
                             'answer', 'note', 'code_scan', 'scanned_code', 'clearing', 'code_meaning', 'photo', 'share'] LOOP
        EXECUTE format('ALTER TABLE %I ENABLE ROW LEVEL SECURITY', t);
        EXECUTE format('CREATE POLICY own_workshop ON %I TO sondar_app USING (workshop_id = current_workshop()) WITH CHECK (workshop_id = current_workshop())', t);
        EXECUTE format('GRANT SELECT, INSERT ON %I TO sondar_app', t);
    END LOOP;
    FOREACH t IN ARRAY ARRAY['circuit', 'circuit_version', 'vehicle_model'] LOOP
        EXECUTE format('ALTER TABLE %I ENABLE ROW LEVEL SECURITY', t);
        EXECUTE format('CREATE POLICY read_own_and_library ON %I FOR SELECT TO sondar_app USING (workshop_id IS NULL OR workshop_id = current_workshop())', t);
        EXECUTE format('CREATE POLICY write_own ON %I FOR INSERT TO sondar_app WITH CHECK (workshop_id = current_workshop())', t);
        EXECUTE format('CREATE POLICY change_own ON %I FOR UPDATE TO sondar_app USING (workshop_id = current_workshop())', t);
        EXECUTE format('GRANT SELECT, INSERT ON %I TO sondar_app', t);
    END LOOP;
END $$;
ALTER TABLE workshop ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_workshop ON workshop TO sondar_app USING (id = current_workshop()) WITH CHECK (id = current_workshop());
GRANT SELECT, INSERT, UPDATE ON workshop TO sondar_app;
GRANT UPDATE ON account, session, meter, vehicle, job, share, circuit TO sondar_app;
GRANT SELECT, INSERT ON sign_in_attempt TO sondar_app;
GRANT USAGE ON ALL SEQUENCES IN SCHEMA public TO sondar_app;
REVOKE ALL ON FUNCTION find_session(bytea), find_account(text), find_share(bytea), any_workshop(), search_jobs(tsquery, integer, text, integer) FROM PUBLIC;
GRANT EXECUTE ON FUNCTION find_session(bytea), find_account(text), find_share(bytea), any_workshop(), search_jobs(tsquery, integer, text, integer) TO sondar_app;
