-- Pictures of wiring sheets, which a circuit's description names.
-- depends: 0019.follow-up-due

CREATE TABLE sheet_picture (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    workshop_id uuid NOT NULL DEFAULT current_workshop() REFERENCES workshop,
    account_id uuid DEFAULT current_account() REFERENCES account,
    client_key uuid NOT NULL,
    page integer NOT NULL CHECK (page BETWEEN 1 AND 20),
    name text NOT NULL CHECK (length(name) <= 200),
    sha256 text NOT NULL CHECK (length(sha256) = 64),
    media_type text NOT NULL CHECK (media_type IN ('image/jpeg', 'image/png', 'image/webp')),
    width integer NOT NULL,
    height integer NOT NULL,
    body bytea NOT NULL CHECK (octet_length(body) <= 20971520),
    thumbnail bytea NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (workshop_id, client_key, page)
);
ALTER TABLE sheet_picture ALTER COLUMN body SET STORAGE EXTERNAL;
COMMENT ON TABLE sheet_picture IS 'A photograph or a page of a PDF that a circuit was described from; the circuit''s file names it.';
CREATE TRIGGER sheet_picture_is_appended BEFORE UPDATE OR DELETE ON sheet_picture FOR EACH ROW EXECUTE FUNCTION refuse_change();
ALTER TABLE sheet_picture ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_workshop ON sheet_picture TO sondar_app
    USING (workshop_id = current_workshop()) WITH CHECK (workshop_id = current_workshop());
GRANT SELECT, INSERT ON sheet_picture TO sondar_app;
