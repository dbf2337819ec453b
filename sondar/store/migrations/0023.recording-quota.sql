-- Recordings take room as photographs do, and have a limit of their own.
ALTER TABLE workshop ADD COLUMN recording_quota_mb integer NOT NULL DEFAULT 20000 CHECK (recording_quota_mb BETWEEN 10 AND 1000000);
