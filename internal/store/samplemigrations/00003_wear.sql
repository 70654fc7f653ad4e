-- +goose Up
CREATE TABLE wear (
	point TEXT NOT NULL,
	day   TEXT NOT NULL, -- as 2006-01-02, by the clock of the machine
	count INTEGER NOT NULL,
	PRIMARY KEY (point, day)
) WITHOUT ROWID;

-- +goose Down
DROP TABLE wear;
