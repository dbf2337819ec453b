-- What comes apart only by force is not out of reach: it costs minutes, and what is destroyed on the way costs money.
ALTER TABLE exclusion DROP CONSTRAINT exclusion_kind_check;
ALTER TABLE exclusion ADD CONSTRAINT exclusion_kind_check CHECK (kind IN ('point', 'instrument', 'figure', 'seized'));
ALTER TABLE exclusion ADD COLUMN minutes double precision CHECK (minutes BETWEEN 0 AND 6000);
ALTER TABLE exclusion ADD COLUMN price numeric(12, 2) CHECK (price BETWEEN 0 AND 1000000);
ALTER TABLE exclusion ADD CONSTRAINT exclusion_seized_check CHECK (kind <> 'seized' OR NOT excluded OR (minutes IS NOT NULL AND price IS NOT NULL));
