-- +goose Up
CREATE TABLE outage (
	link    TEXT NOT NULL,
	device  TEXT NOT NULL,
	from_ms INTEGER NOT NULL, -- milliseconds since 1970
	to_ms   INTEGER NOT NULL, -- 0 while it lasts
	reason  TEXT NOT NULL,
	tries   INTEGER NOT NULL,
	PRIMARY KEY (link, from_ms)
) WITHOUT ROWID;

-- +goose Down
DROP TABLE outage;
