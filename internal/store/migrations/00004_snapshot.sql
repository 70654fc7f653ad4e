-- +goose Up
-- What points read at one moment, under a name.
CREATE TABLE snapshot (
    id   INTEGER PRIMARY KEY AUTOINCREMENT,
    at   TEXT NOT NULL,
    who  TEXT NOT NULL,
    name TEXT NOT NULL,
    doc  TEXT NOT NULL
);

-- +goose Down
DROP TABLE snapshot;
