-- How a vehicle is switched on decides how a position of the key is reached, and what can hurt: by a key, a button, or a silent drive.
ALTER TABLE vehicle ADD COLUMN starting text NOT NULL DEFAULT '' CHECK (starting IN ('', 'key', 'button', 'hybrid'));
