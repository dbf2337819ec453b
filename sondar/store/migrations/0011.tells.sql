-- What is told of an entry names its workshop too: one stream then serves every page of a browser.
-- depends: 0010.ready

CREATE OR REPLACE FUNCTION tell_job() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM pg_notify('sondar_job', NEW.job_id::text || ' ' || NEW.seq::text || ' ' || TG_TABLE_NAME || ' ' || NEW.workshop_id::text);
    RETURN NULL;
END $$;
