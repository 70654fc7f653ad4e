-- +goose Up
-- What was proved of points; a row is never changed.
CREATE TABLE proof (
    id    INTEGER PRIMARY KEY AUTOINCREMENT,
    at    TEXT NOT NULL,
    who   TEXT NOT NULL,
    point TEXT NOT NULL,
    doc   TEXT NOT NULL
);
CREATE INDEX proof_point ON proof (point, id);

-- +goose Down
DROP INDEX proof_point;
DROP TABLE proof;
