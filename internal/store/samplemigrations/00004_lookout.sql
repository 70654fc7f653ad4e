-- +goose Up
ALTER TABLE outage ADD COLUMN how TEXT NOT NULL DEFAULT ''; -- how the first try failed

CREATE TABLE event (
	id       TEXT PRIMARY KEY,
	lookout  TEXT NOT NULL,
	start_ms INTEGER NOT NULL, -- milliseconds since 1970
	end_ms   INTEGER NOT NULL, -- 0 while it is not over
	doc      TEXT NOT NULL     -- all of it, in JSON
) WITHOUT ROWID;
CREATE INDEX event_start ON event (start_ms);

-- +goose Down
DROP TABLE event;
ALTER TABLE outage DROP COLUMN how;
