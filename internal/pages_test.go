package internal_test

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
)

// A call is a function of the pages with its arguments, and what it must return,
// all in JSON. Functions in a result are called with the arguments that follow.
type pageCall struct {
	name string
	call string // as JavaScript, with the functions of pure.ts in scope
	want string // JSON
}

// runPages bundles what the pages compute without a page, and evaluates calls in
// one process of Node.
func runPages(t *testing.T, calls []pageCall) {
	t.Helper()
	dir := t.TempDir()
	bundle := filepath.Join(dir, "pure.mjs")
	rolldown := exec.Command("node", "node_modules/rolldown/bin/cli.mjs", "src/pure.ts", "--format", "esm", "--file",
		bundle)
	rolldown.Dir = "../web"
	if out, err := rolldown.CombinedOutput(); err != nil {
		t.Fatalf("the pages cannot be bundled (make test installs what that needs): %v\n%s", err, out)
	}
	var script bytes.Buffer
	script.WriteString("import * as pure from './pure.mjs';\nimport { inspect } from 'node:util';\nconst { " +
		"changed, taken, readValue, shownValue, inView, turned, changes, pasted, tableOf, textOf, dimsOf, dimsText } = pure;\n" +
		"const told = (f) => { try { const v = f(); return v === undefined ? null : v; } catch (e) { return inspect(e); } };\n" +
		"console.log(JSON.stringify([\n")
	for _, c := range calls {
		script.WriteString("told(() => (" + c.call + ")),\n")
	}
	script.WriteString("]));\n")
	main := filepath.Join(dir, "main.mjs")
	if err := os.WriteFile(main, script.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	node := exec.Command("node", main)
	var stderr bytes.Buffer
	node.Stderr = &stderr
	out, err := node.Output()
	if err != nil {
		t.Fatalf("%v\n%s", err, &stderr)
	}
	var results []json.RawMessage
	if err := json.Unmarshal(out, &results); err != nil || len(results) != len(calls) {
		t.Fatalf("%v: %s", err, out)
	}
	for i, c := range calls {
		var got, want bytes.Buffer
		if err := json.Compact(&want, []byte(c.want)); err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		if err := json.Compact(&got, results[i]); err != nil || got.String() != want.String() {
			t.Errorf("%s: %s\nis   %s\nwant %s", c.name, c.call, &got, &want)
		}
	}
}

// TestRowsInView: filters and sorting of a map, as the grid shows it.
func TestRowsInView(t *testing.T) {
	const points = `{columns: ["name", "address", "pace"], findings: [
		{subject: {id: "b"}, severity: "note"}, {subject: {id: "c"}, severity: "fault"}, {subject: {id: "c"}, severity: "doubt"}],
		rows: [{id: "a", area: "hr", start: 10, cells: ["Pump 10", "40011", "1 s"]},
			{id: "b", area: "hr", start: 2, cells: ["Pump 9", "40003", ""]},
			{id: "c", area: "co", start: 4, cells: ["door", "00005", "500 ms"]}]}`
	list := func(sort, filters string) string {
		return "inView(" + points + ", " + sort + ", " + filters + ").map((r) => r.id).join('')"
	}
	runPages(t, []pageCall{
		{"as it is", list("undefined", "{}"), `"abc"`},
		{"a part, in any case", list("undefined", `{name: "PUMP"}`), `"ab"`},
		{"exactly", list("undefined", `{name: "=pump 9"}`), `"b"`},
		{"not", list("undefined", `{name: "!pump"}`), `"c"`},
		{"empty", list("undefined", `{pace: "–"}`), `"b"`},
		{"greater", list("undefined", `{pace: "> 100"}`), `"c"`},
		{"less, but not empty", list("undefined", `{pace: "<100"}`), `"a"`},
		{"a comparison with no number is a text", list("undefined", `{pace: "> x"}`), `""`},
		{"two filters", list("undefined", `{name: "pump", pace: "s"}`), `"a"`},
		{"numbers in names count", list(`{by: "name", down: false}`, "{}"), `"cba"`},
		{"by area and place", list(`{by: "address", down: false}`, "{}"), `"cba"`},
		{"the other way", list(`{by: "address", down: true}`, "{}"), `"abc"`},
		{"the worst finding counts", list(`{by: "findings", down: true}`, "{}"), `"cba"`},
		{"first press", `turned(undefined, "name")`, `{"by": "name", "down": false}`},
		{"second", `turned({by: "name", down: false}, "name")`, `{"by": "name", "down": true}`},
		{"third", `turned({by: "name", down: true}, "name")`, `null`},
		{"findings begin with the worst", `turned(undefined, "findings")`, `{"by": "findings", "down": true}`},
	})
}

// TestSheet: what is copied and pasted goes where spreadsheets would put it.
func TestSheet(t *testing.T) {
	const at = `{top: 1, bottom: 2, left: 0, right: 1}`
	runPages(t, []pageCall{
		{"a table", `tableOf("a\tb\r\n\tc\n")`, `[["a", "b"], ["", "c"]]`},
		{"a line break within is a row", `tableOf("a\n\nb")`, `[["a"], [""], ["b"]]`},
		{"and back", `textOf([["a", "b"], ["", "c"]])`, `"a\tb\n\tc"`},
		{"one cell into all", `pasted([["x"]], ` + at + `, 9).into`, `{"top": 1, "bottom": 2, "left": 0, "right": 1}`},
		{"a block from the corner on", `pasted([["x", "y"], ["z"]], ` + at + `, 9).into`,
			`{"top": 1, "left": 0, "bottom": 2, "right": 1}`},
		{"what is missing in a row is left alone", `pasted([["x", "y"], ["z"]], ` + at + `, 9).text(1, 1)`, `null`},
		{"a table beyond the last row is one of its own", `pasted([["x", "y"], ["z", "w"]], ` + at + `, 2)`, `null`},
		{"a column beyond the last row is cut off", `pasted([["x"], ["y"], ["z"]], ` + at + `, 3).into.bottom`, `3`},
		{"only what changes", `changes(` + at + `, {rows: 9, cols: 9}, (r, c) => r + "" + c, (r, c, d, a) => d + "" + a)`,
			`[{"row": 1, "col": 0, "text": "00"}, {"row": 1, "col": 1, "text": "01"}, {"row": 2, "col": 0, "text": "10"},
			  {"row": 2, "col": 1, "text": "11"}]`},
		{"the same is no change", `changes(` + at + `, {rows: 9, cols: 9}, () => "x", () => "x")`, `[]`},
		{"nothing outside", `changes({top: 1, bottom: 9, left: 1, right: 9}, {rows: 2, cols: 2}, () => "", () => "x")`,
			`[{"row": 1, "col": 1, "text": "x"}]`},
	})
}

// TestStream: what a message of the stream makes of what the page knows.
func TestStream(t *testing.T) {
	const state = `{mode: "bench", unlockedMs: 0, running: ["k"], allowed: [], released: [], plan: 3, compiling: false}`
	const now = `{connected: false, state: ` + state + `, findings: [{code: "old"}], crossings: {}, exchange: 4, nowMs: 1}`
	pulse := func(seq, routes, plan, more string) string {
		return `{seq: ` + seq + `, routes: ` + routes + `, state: {...` + state + `, plan: ` + plan +
			`}, crossings: [], exchange: 5,
			nowMs: 2` + more + `}`
	}
	news := func(told, pulse string) string { return "changed(" + told + ", " + pulse + ")" }
	const well = `{seq: 7, routes: 1, plan: 3, shown: 7}`
	runPages(t, []pageCall{
		{"nothing new", news(well, pulse("7", "1", "3", "")), `[]`},
		{"a change of the site", news(well, pulse("8", "1", "3", "")),
			`["site", "points", "point", "timetable", "journal", "sheets", "checkout"]`},
		{"a try", news(well, pulse("7", "2", "3", "")), `["site"]`},
		{"a timetable", news(well, pulse("7", "1", "4", "")), `["site", "points", "timetable"]`},
		{"a stream that begins", news(`{seq: 0, routes: -1, plan: -1, shown: 0}`, pulse("7", "1", "3", "")), `[]`},
		{"one that begins again, with nothing missed", news(`{seq: 0, routes: -1, plan: -1, shown: 7}`,
			pulse("7", "1", "3", "")), `[]`},
		{"one that begins again after a change", news(`{seq: 0, routes: -1, plan: -1, shown: 6}`, pulse("7", "1", "3", "")),
			`"everything"`},
		{"findings stay where none are told", `taken(` + now + `, ` + pulse("7", "1", "3", ", findings: null") + `).findings`,
			`[{"code": "old"}]`},
		{"and go where they are told to be none", `taken(` + now + `, ` + pulse("7", "1", "3", ", findings: []") +
			`).findings`, `[]`},
		{"what says the same is the same object",
			`(() => { const a = ` + now + `; const b = taken(a, ` + pulse("7", "1", "3", "") + `);
				return [a.state === b.state, a.crossings === b.crossings, b.connected, b.exchange]; })()`, `[true, true, true, 5]`},
		{"what runs no more is told", `taken(` + now + `, {...` + pulse("7", "1", "3", "") + `, state: {...` + state +
			`, running: []}}).state.running`, `[]`},
	})
}

// TestSettings: what is typed into a field is a value of the setting's kind.
func TestSettingsOfPages(t *testing.T) {
	runPages(t, []pageCall{
		{"a switch", `readValue({kind: "switch"}, "on")`, `true`},
		{"a text", `readValue({kind: "text"}, " 007 ")`, `"007"`},
		{"the name of a secret", `readValue({kind: "secret"}, "12")`, `"12"`},
		{"a number", `readValue({kind: "number"}, "12")`, `12`},
		{"shown", `[shownValue(true), shownValue(12), shownValue("x")]`, `["on", "12", "x"]`},
	})
}

// TestDimensions: those of an array, typed as IEC 61131-3 writes them.
func TestDimensions(t *testing.T) {
	runPages(t, []pageCall{
		{"two", `dimsOf("1..4, -2 .. 2")`, `[{"first": 1, "count": 4}, {"first": -2, "count": 5}]`},
		{"none", `dimsOf("  ")`, `[]`},
		{"half of one", `dimsOf("1..")`, `null`},
		{"backwards", `dimsOf("4..1")`, `null`},
		{"written", `dimsText([{first: 0, count: 3}, {first: 1, count: 1}])`, `"0..2, 1..1"`},
	})
}
