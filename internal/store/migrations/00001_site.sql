-- +goose Up
-- One row for each object of the site; a device's row leaves its points out.
CREATE TABLE object (
    kind    TEXT NOT NULL,
    id      TEXT NOT NULL,
    parent  TEXT NOT NULL DEFAULT '',
    doc     TEXT NOT NULL,
    version INTEGER NOT NULL, -- journal number of its last change
    PRIMARY KEY (kind, id)
) WITHOUT ROWID;

-- The ids of siblings in their order, as a JSON array.
CREATE TABLE sibling (
    kind   TEXT NOT NULL,
    parent TEXT NOT NULL,
    ids    TEXT NOT NULL,
    PRIMARY KEY (kind, parent)
) WITHOUT ROWID;

CREATE TABLE journal (
    seq     INTEGER PRIMARY KEY AUTOINCREMENT,
    at      TEXT NOT NULL,
    who     TEXT NOT NULL,
    action  TEXT NOT NULL CHECK (action IN ('edit', 'undo', 'redo')),
    target  INTEGER NOT NULL DEFAULT 0, -- the journal row taken back or done again
    what    TEXT NOT NULL,
    changes TEXT NOT NULL
);

CREATE TABLE written (
    id     INTEGER PRIMARY KEY AUTOINCREMENT,
    at     TEXT NOT NULL,
    who    TEXT NOT NULL,
    result TEXT NOT NULL
);

-- +goose Down
DROP TABLE written;
DROP TABLE journal;
DROP TABLE sibling;
DROP TABLE object;
