-- Who may see what before anybody is known, attempts to sign in counted by name and address, devices that are known.
-- depends: 0006.repairs

-- Functions that look across workshops belong to a role that can do nothing else: no superuser, no login.
DO $$ BEGIN
    IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = 'sondar_definer') THEN CREATE ROLE sondar_definer NOLOGIN; END IF;
    EXECUTE format('REVOKE TEMPORARY ON DATABASE %I FROM PUBLIC', current_database());
END $$;
GRANT USAGE ON SCHEMA public TO sondar_definer;
GRANT SELECT ON session, account, share, workshop, job, sign_in_attempt TO sondar_definer;
GRANT UPDATE (seen_at) ON session TO sondar_definer;
GRANT UPDATE (opened) ON share TO sondar_definer;
CREATE POLICY asked_before_known ON session TO sondar_definer USING (true);
CREATE POLICY asked_before_known ON account FOR SELECT TO sondar_definer USING (true);
CREATE POLICY asked_before_known ON share TO sondar_definer USING (true);
CREATE POLICY asked_before_known ON workshop FOR SELECT TO sondar_definer USING (true);
CREATE POLICY searched ON job FOR SELECT TO sondar_definer USING (workshop_id = current_workshop());

-- A browser from which an account has signed in before: whoever has it is let past the delays that strangers cause.
CREATE TABLE device (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    account_id uuid NOT NULL REFERENCES account,
    token_sha256 bytea NOT NULL UNIQUE,
    created_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX device_account ON device (account_id);
ALTER TABLE device ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_workshop ON device TO sondar_app USING (workshop_id = current_workshop()) WITH CHECK (workshop_id = current_workshop());
CREATE POLICY asked_before_known ON device FOR SELECT TO sondar_definer USING (true);
GRANT SELECT, INSERT, DELETE ON device TO sondar_app;
GRANT SELECT ON device TO sondar_definer;

-- What has failed of late: with this name from this address, with this name anywhere, from this address with any name; each counted since
-- the name last succeeded from there, with the seconds since the last one.
CREATE FUNCTION sign_in_failures(wanted text, from_address text, minutes integer)
    RETURNS TABLE (here integer, here_s double precision, anywhere integer, anywhere_s double precision, address integer, address_s double precision)
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = pg_catalog, public, pg_temp AS $$
    WITH recent AS (
        SELECT a.sign_in, a.address, a.succeeded, a.at FROM sign_in_attempt a
        WHERE (a.sign_in = wanted OR a.address = from_address) AND a.at > clock_timestamp() - make_interval(mins => minutes)
    ), forgiven AS (
        SELECT coalesce(max(at) FILTER (WHERE r.address = from_address OR r.address = ''), '-infinity') AS here,
               coalesce(max(at), '-infinity') AS anywhere
        FROM recent r WHERE r.sign_in = wanted AND r.succeeded
    )
    SELECT count(*) FILTER (WHERE NOT r.succeeded AND r.sign_in = wanted AND r.address = from_address AND r.at > f.here)::integer,
           extract(epoch FROM clock_timestamp() - max(r.at) FILTER (WHERE NOT r.succeeded AND r.sign_in = wanted AND r.address = from_address AND r.at > f.here)),
           count(*) FILTER (WHERE NOT r.succeeded AND r.sign_in = wanted AND r.at > f.anywhere)::integer,
           extract(epoch FROM clock_timestamp() - max(r.at) FILTER (WHERE NOT r.succeeded AND r.sign_in = wanted AND r.at > f.anywhere)),
           -- Every attempt is counted before it is checked; those that then succeeded are taken off again.
           greatest(0, count(*) FILTER (WHERE NOT r.succeeded AND r.address = from_address) - count(*) FILTER (WHERE r.succeeded AND r.address = from_address))::integer,
           extract(epoch FROM clock_timestamp() - max(r.at) FILTER (WHERE NOT r.succeeded AND r.address = from_address))
    FROM recent r CROSS JOIN forgiven f
$$;
CREATE FUNCTION is_known_device(wanted text, token bytea) RETURNS boolean
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = pg_catalog, public, pg_temp AS
    $$ SELECT EXISTS (SELECT FROM device d JOIN account a ON a.id = d.account_id WHERE a.sign_in = wanted AND d.token_sha256 = token) $$;
REVOKE ALL ON FUNCTION sign_in_failures(text, text, integer), is_known_device(text, bytea) FROM PUBLIC;
GRANT EXECUTE ON FUNCTION sign_in_failures(text, text, integer), is_known_device(text, bytea) TO sondar_app;

ALTER FUNCTION find_session(bytea) SET search_path = pg_catalog, public, pg_temp;
ALTER FUNCTION find_account(text) SET search_path = pg_catalog, public, pg_temp;
ALTER FUNCTION find_share(bytea) SET search_path = pg_catalog, public, pg_temp;
ALTER FUNCTION any_workshop() SET search_path = pg_catalog, public, pg_temp;
ALTER FUNCTION search_jobs(tsquery, integer, text, integer) SET search_path = pg_catalog, public, pg_temp;
ALTER FUNCTION find_session(bytea) OWNER TO sondar_definer;
ALTER FUNCTION find_account(text) OWNER TO sondar_definer;
ALTER FUNCTION find_share(bytea) OWNER TO sondar_definer;
ALTER FUNCTION any_workshop() OWNER TO sondar_definer;
ALTER FUNCTION search_jobs(tsquery, integer, text, integer) OWNER TO sondar_definer;
ALTER FUNCTION sign_in_failures(text, text, integer) OWNER TO sondar_definer;
ALTER FUNCTION is_known_device(text, bytea) OWNER TO sondar_definer;

-- The application adds attempts and never reads them, and reads an account's hash by its name only.
REVOKE SELECT ON sign_in_attempt FROM sondar_app;
REVOKE SELECT ON account FROM sondar_app;
GRANT SELECT (id, workshop_id, sign_in, name, role, active, theme, created_at, password_changed_at) ON account TO sondar_app;

-- A key is a workshop's own.
ALTER TABLE job DROP CONSTRAINT job_client_key_key;
ALTER TABLE job ADD CONSTRAINT job_client_key UNIQUE (workshop_id, client_key);
