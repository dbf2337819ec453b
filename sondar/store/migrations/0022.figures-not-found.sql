-- A figure that nobody finds published is ruled out like a point that cannot be reached, so that looking it up is not proposed again.
ALTER TABLE exclusion DROP CONSTRAINT IF EXISTS exclusion_kind_check;
ALTER TABLE exclusion ADD CONSTRAINT exclusion_kind_check CHECK (kind IN ('point', 'instrument', 'figure'));
