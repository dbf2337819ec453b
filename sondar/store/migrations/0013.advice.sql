-- New workshops have a scan tool and eyes among their tools; how often what fails may be a workshop's own figures.
-- depends: 0012.housekeeping

ALTER TABLE workshop ALTER COLUMN tools
    SET DEFAULT '{voltmeter,ohmmeter,lamp-5w,lamp-21w,functional-check,thermometer,new-fuse,visual-inspection,live-data,module-communication}';

ALTER TABLE workshop ADD COLUMN group_shares jsonb NOT NULL DEFAULT '{}' CHECK (jsonb_typeof(group_shares) = 'object');
COMMENT ON COLUMN workshop.group_shares IS 'Percent of the faults that come in, by whose they are (wiring, component, module, system, setting); empty for Sondar''s own figures.';
