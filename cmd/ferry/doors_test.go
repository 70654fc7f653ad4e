package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ferry/internal/field"
)

// TestMain keeps the journal of writes of the tests out of the user's own.
func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "ferry")
	if err != nil {
		panic(err)
	}
	_ = os.Setenv("XDG_STATE_HOME", dir)
	code := m.Run()
	_ = os.RemoveAll(dir)
	os.Exit(code)
}

// TestWriteIsJournalled: a write of the command line is kept before it goes and
// after; without a journal, and without a value that can be held, none goes.
func TestWriteIsJournalled(t *testing.T) {
	url, _ := stand(t)
	path := filepath.Join(t.TempDir(), "new", "writes.jsonl")
	if code, out, errOut := do(t, "write", url, "hr14:text5=Row B", "--yes", "--journal", path); code != exitFine {
		t.Fatalf("exit %d: %s%s", code, out, errOut)
	}
	data, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	var states []string
	for line := range strings.Lines(string(data)) {
		var r field.Record
		if err := json.Unmarshal([]byte(line), &r); err != nil || r.Order.New != "Row B" ||
			!strings.HasSuffix(r.Who, "command line") || r.Order.Target == "" {
			t.Errorf("%s, %v", line, err)
		}
		states = append(states, string(r.State))
	}
	if got := strings.Join(states, ", "); got != "under way, written" {
		t.Errorf("the journal says %s", got)
	}
	for _, c := range []struct{ point, journal, says string }{
		{"hr5:uint16=3.7", path, "cannot be held exactly"},
		{"hr5:int64=-9223372036854775809", path, "beyond what 64 bits hold"}, {"hr5:uint16=70000", path, "outside"},
		{"hr5:uint16=7", filepath.Join(path, "not-a-folder", "x"), "Nothing was written"},
	} {
		if code, _, errOut := do(t, "write", url, c.point, "--yes", "--journal", c.journal); code != exitUsage ||
			!strings.Contains(errOut, c.says) {
			t.Errorf("%s: exit %d, %s", c.point, code, errOut)
		}
	}
	if after, err := os.ReadFile(path); err != nil || len(after) != len(data) {
		t.Errorf("what did not go is journalled: %s, %v", after[len(data):], err)
	}
}

// TestReach: beyond loopback nobody gets in without a user, and a passphrase that
// nobody could type is refused at the start.
func TestReach(t *testing.T) {
	dir := t.TempDir()
	long := filepath.Join(dir, "long")
	if err := os.WriteFile(long, []byte(strings.Repeat("tide", 800)), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"--tls"}, "nobody may sign in yet"},
		{[]string{"--passphrase-file", long}, "longer than 1024"},
		{[]string{"--passphrase-file", filepath.Join(dir, "none")}, "no such file"},
		{[]string{"--cert", long}, "--cert and --key together"},
		{[]string{"--cert", long, "--key", long}, "nobody may sign in yet"},
	} {
		if code, _, errOut := do(t, append([]string{"serve", "--listen", "127.0.0.1:0", "--data",
			filepath.Join(dir, "data")}, c.args...)...); code != exitUsage || !strings.Contains(errOut, c.says) {
			t.Errorf("%v: exit %d, %s", c.args, code, errOut)
		}
	}
	short := filepath.Join(dir, "short")
	if err := os.WriteFile(short, []byte("rising tide\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	data := []string{"--data", filepath.Join(dir, "data")}
	if code, _, errOut := do(t, append([]string{"user", "add", "Ines", "--role", "edit", "--passphrase-file", short},
		data...)...); code != exitUsage || !strings.Contains(errOut, "role plant") {
		t.Errorf("a first user who may not see to the users: exit %d, %s", code, errOut)
	}
	for _, add := range [][]string{{"Ines", "--role", "plant"}, {"Tor", "--role", "look"}} {
		if code, _, errOut := do(t,
			append(append([]string{"user", "add", "--passphrase-file", short}, add...), data...)...); code != exitFine {
			t.Errorf("%v: exit %d, %s", add, code, errOut)
		}
	}
	if code, _, errOut := do(t, append([]string{"user", "remove", "Ines"}, data...)...); code != exitUsage ||
		!strings.Contains(errOut, "Nobody would be left") {
		t.Errorf("the last one who may: exit %d, %s", code, errOut)
	}
	if code, out, _ := do(t, append([]string{"user", "list"}, data...)...); code != exitFine ||
		strings.Count(out, "\n") != 2 || !strings.Contains(out, "Tor") {
		t.Errorf("exit %d, %s", code, out)
	}
}

// TestPrintable: what a device sends moves no cursor.
func TestPrintable(t *testing.T) {
	if got := printable("Tank\x1b[2J\a \u202e11 °C\nnext"); got != "Tank\uFFFD[2J\uFFFD \uFFFD11 °C\nnext" {
		t.Errorf("%q", got)
	}
}
