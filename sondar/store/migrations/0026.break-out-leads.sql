-- Sealed connectors are measured while connected through break-out leads only; a workshop has them until it says otherwise.
UPDATE workshop SET tools = tools || '{break-out-leads}'::text[] WHERE NOT 'break-out-leads' = ANY (tools);
ALTER TABLE workshop ALTER COLUMN tools
    SET DEFAULT '{voltmeter,ohmmeter,lamp-5w,lamp-21w,functional-check,thermometer,new-fuse,visual-inspection,live-data,module-communication,break-out-leads}';
