-- +goose Up
CREATE TABLE sample (
    id    INTEGER PRIMARY KEY AUTOINCREMENT,
    point TEXT NOT NULL,
    at_ms INTEGER NOT NULL,
    v     REAL NOT NULL,
    good  INTEGER NOT NULL
);
CREATE INDEX sample_point ON sample (point, at_ms);

-- +goose Down
DROP TABLE sample;
