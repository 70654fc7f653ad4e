package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"time"

	"ferry/internal/field"
)

// writeLog keeps the writes of the command line: a file of JSON lines, one
// before a write goes and one with its outcome.
type writeLog struct{ path string }

// defaultWriteLog is where the XDG base directory specification has programs
// keep what they did.
func defaultWriteLog() string {
	dir := os.Getenv("XDG_STATE_HOME")
	if dir == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return "ferry-writes.jsonl"
		}
		dir = filepath.Join(home, ".local", "state")
	}
	return filepath.Join(dir, "ferry", "writes.jsonl")
}

// logged is one line of the file.
type logged struct {
	At string `json:"at"`
	*field.Record
}

func (l writeLog) keep(r *field.Record) error {
	line, err := json.Marshal(logged{time.Now().Format(rfc3339Millis), r})
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(l.path), 0o755); err != nil {
		return err
	}
	f, err := os.OpenFile(l.path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	_, err = f.Write(append(line, '\n'))
	return errors.Join(err, f.Sync(), f.Close())
}

// Intend keeps a write before it goes.
func (l writeLog) Intend(_ context.Context, r *field.Record) error {
	r.ID = time.Now().UnixNano()
	return l.keep(r)
}

// Outcome keeps what became of it.
func (l writeLog) Outcome(_ context.Context, records ...*field.Record) error {
	var errs []error
	for _, r := range records {
		errs = append(errs, l.keep(r))
	}
	return errors.Join(errs...)
}

// operator names who uses the command line.
func operator() string {
	if u, err := user.Current(); err == nil {
		return fmt.Sprintf("%s, command line", u.Username)
	}
	return "command line"
}
