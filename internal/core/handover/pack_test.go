package handover_test

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ferry/internal/bench"
	"ferry/internal/core/checkout"
	"ferry/internal/core/finding"
	"ferry/internal/core/handover"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
	"ferry/internal/core/timetable"
	_ "ferry/internal/families"
)

var update = flag.Bool("update", os.Getenv("UPDATE_GOLDEN") != "", "write the golden files anew")

// demo is everything of the demo site, with two proofs, a link that was tried, and a run.
func demo() *handover.Of {
	s := bench.Demo()
	g := checkout.On(s)
	at := time.Date(2026, 11, 27, 8, 10, 0, 0, time.UTC)
	proof := func(id string, result checkout.Result, who string) *checkout.Proved {
		d, p := g.Point(id)
		return &checkout.Proved{ID: 1, Point: id, Device: d.ID, Name: d.Name + " · " + p.Name, Result: result, Who: who,
			AtMs: at.Add(-time.Hour).UnixMilli(), Mode: "plant", Read: "9.21", Unit: p.Unit, Shown: "9.2", Basis: g.Basis(id),
			Method: checkout.Display, Remark: "by radio"}
	}
	last := map[string]*checkout.Proved{"do11-01": proof("do11-01", checkout.Right, "Ines"),
		"pump1-01": proof("pump1-01", checkout.Wrong, "Oran")}
	plan := timetable.Compile(s)
	tried := route.Plan(s, &s.Links[0])
	return &handover.Of{Site: s, Seq: 7, At: at, By: "Ines", Mode: "plant", Plan: plan, Ground: g, Stops: g.Walk(last),
		Proofs:   last,
		Measured: map[string]handover.Measured{plan.Requests[0].ID: {Count: 100, Failed: 2, MeanMs: 6.8, WorstMs: 31}},
		Routes:   map[string]*route.Route{s.Links[0].ID: tried},
		Findings: []finding.Finding{{Severity: finding.Note, Title: "Gaps in the map", Sentence: "Six units.",
			Remedy: "Compare."},
			{Severity: finding.Fault, Title: "Points overlap", Sentence: "They share one.", Remedy: "Look it up."}},
		Steps: []handover.Step{{Seq: 7, At: at.Add(-2 * time.Hour), Who: "Ines", What: "changed the pace of Oxygen"}},
		Writes: []handover.Written{{At: at, Who: "Ines", Point: "Pump drive 1 · SpeedSetpoint", Old: "40.00", New: "31.50",
			Unit: "Hz", Outcome: "Written and read back."}}}
}

// TestPack: the pack of the demo site says what its golden file says, and each row has a cell
// for each column.
func TestPack(t *testing.T) {
	pack := handover.Make(demo())
	var out strings.Builder
	for _, fact := range pack.Facts {
		fmt.Fprintf(&out, "%s: %s\n", fact.Name, fact.Says)
	}
	for _, s := range pack.Sections {
		fmt.Fprintf(&out, "\n# %s\n%s\n", s.Title, s.Says)
		for _, r := range s.Rails {
			fmt.Fprintf(&out, "rail %s | %s | dashed %v | %.3f\n", r.Title, r.About, r.Dashed, r.Used)
			for _, c := range r.Cards {
				fmt.Fprintf(&out, "  %s | %s | %s | dark %v | %v\n", c.Name, c.Place, c.Says, c.Dark, c.Stops)
			}
		}
		for _, table := range s.Tables {
			fmt.Fprintf(&out, "## %s (%s) %s\n", table.Title, table.Sheet, table.Says)
			for n, row := range table.Rows {
				if len(row) != len(table.Columns) {
					t.Errorf("%s, row %d has %d cells of %d", table.Title, n, len(row), len(table.Columns))
				}
				if n < 6 || slices.Contains(row, "Ines") {
					fmt.Fprintln(&out, strings.Join(row, " | "))
				}
			}
		}
	}
	path := filepath.Join("testdata", "demo.txt")
	if *update {
		if err := os.WriteFile(path, []byte(out.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if got := out.String(); got != string(want) {
		t.Errorf("the pack is another (UPDATE_GOLDEN=1 writes it anew):\n%s", firstOther(got, string(want)))
	}
	for _, secret := range bench.Demo().Links {
		if name := secret.Settings["password"].String(); name != "" && strings.Contains(out.String(), name) {
			t.Errorf("the name of a secret is handed over: %s", name)
		}
	}
}

func firstOther(got, want string) string {
	a, b := strings.Split(got, "\n"), strings.Split(want, "\n")
	for i := range a {
		if i >= len(b) || a[i] != b[i] {
			return fmt.Sprintf("line %d\ngot  %s\nwant %s", i+1, a[i], append(b, "", "")[min(i, len(b))])
		}
	}
	return "it is shorter"
}

// TestEmptyPack: a site that has nothing says so.
func TestEmptyPack(t *testing.T) {
	s := site.New("New site")
	pack := handover.Make(&handover.Of{Site: s, Plan: timetable.Compile(s), Ground: checkout.On(s),
		At: time.Unix(0, 0).UTC()})
	for _, section := range pack.Sections {
		if section.Says == "" {
			t.Errorf("%s says nothing", section.Title)
		}
	}
}

// TestReaders: each point is there once, under a name that the reader can hold.
func TestReaders(t *testing.T) {
	s := bench.Demo()
	for _, c := range []struct {
		reader handover.Reader
		row    string
		bad    string
	}{
		{reader: handover.Reader{Device: "do11"},
			row: "DO probe 11.Oxygen | DO probe 11 · Oxygen | 192.0.2.21, unit 1 | 40001 | float32 | CDAB"},
		{reader: handover.Reader{Device: "do11", Name: "{device}_{point}", Rule: "iec61131", Notation: "0-based"},
			row: "DO_probe_11_Oxygen | DO probe 11 · Oxygen | 192.0.2.21, unit 1 | "},
		{reader: handover.Reader{Name: "{point}", Rule: "ascii32"}, row: "Oxygen_2 | DO probe 12 · Oxygen"},
		{reader: handover.Reader{Name: "{device}"}, bad: "one name to all"},
		{reader: handover.Reader{Rule: "runes"}, bad: "no rule"},
		{reader: handover.Reader{Device: "nobody"}, bad: "no point to read"},
	} {
		list, err := c.reader.List(s)
		if c.bad != "" {
			if err == nil || !strings.Contains(err.Error(), c.bad) {
				t.Errorf("%+v: %v", c.reader, err)
			}
			continue
		}
		if err != nil {
			t.Errorf("%+v: %v", c.reader, err)
			continue
		}
		names, found := map[string]bool{}, false
		for _, row := range list.Table.Rows {
			if key := strings.ToLower(row[0]); names[key] || row[0] == "" {
				t.Errorf("%+v: %q is there twice", c.reader, row[0])
			}
			names[strings.ToLower(row[0])] = true
			found = found || strings.HasPrefix(strings.Join(row, " | "), c.row)
		}
		if !found {
			t.Errorf("%+v: no row %q, first %q", c.reader, c.row, list.Table.Rows[0])
		}
	}
}
