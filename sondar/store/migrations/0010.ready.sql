-- Whether anything can be written is found out by writing.
-- depends: 0009.search

CREATE TABLE written (only_row boolean PRIMARY KEY DEFAULT true CHECK (only_row), at timestamptz NOT NULL DEFAULT now());
INSERT INTO written DEFAULT VALUES;
GRANT SELECT, UPDATE ON written TO sondar_app;
