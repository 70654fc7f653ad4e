-- +goose Up
-- A write is kept before it goes: open is 1 until its outcome is kept.
ALTER TABLE written ADD COLUMN open INTEGER NOT NULL DEFAULT 0;
CREATE INDEX written_open ON written (open) WHERE open = 1;
UPDATE written SET result = json_set(result,
    '$.state', CASE WHEN json_extract(result, '$.ok') THEN 'written' ELSE 'not written' END,
    '$.endMs', json_extract(result, '$.atMs'));

-- +goose Down
DROP INDEX written_open;
ALTER TABLE written DROP COLUMN open;
