-- +goose Up
CREATE TABLE strip (
	id  INTEGER PRIMARY KEY AUTOINCREMENT,
	doc TEXT NOT NULL -- all of it but the samples, in JSON
);
-- What came since the last minute was packed, some samples of every pen to a row.
CREATE TABLE tail (
	strip INTEGER NOT NULL REFERENCES strip (id) ON DELETE CASCADE,
	n     INTEGER NOT NULL,
	pens  BLOB NOT NULL,
	PRIMARY KEY (strip, n)
) WITHOUT ROWID;
-- The samples of a pen, packed by the minute.
CREATE TABLE stretch (
	id      INTEGER PRIMARY KEY,
	strip   INTEGER NOT NULL REFERENCES strip (id) ON DELETE CASCADE,
	pen     INTEGER NOT NULL,
	from_us INTEGER NOT NULL, -- microseconds since 1970: its first sample
	to_us   INTEGER NOT NULL, -- and its last
	packed  BLOB NOT NULL
);
CREATE INDEX stretch_at ON stretch (strip, pen, from_us, to_us);

-- +goose Down
DROP TABLE stretch;
DROP TABLE tail;
DROP TABLE strip;
