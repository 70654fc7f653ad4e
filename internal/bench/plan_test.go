package bench_test

import (
	"bytes"
	"encoding/json"
	"os"
	"strings"
	"testing"

	"ferry/internal/bench"

	"ferry/internal/core/crossing"
	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/timetable"
)

// TestDemoPlan: the timetable of the demo site and everything that is wrong
// with its plan, as a golden file. UPDATE_GOLDEN=1 writes it anew.
func TestDemoPlan(t *testing.T) {
	s := bench.Demo()
	found := crossing.Check(s)
	for i := range s.Devices {
		if def, ok := protocol.Named(s.Devices[i].Map); ok {
			found = append(found, regmap.Check(def.Scheme, &s.Devices[i], def.Most(nil))...)
		}
	}
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetIndent("", " ")
	if err := e.Encode(struct {
		Plan     *timetable.Plan   `json:"plan"`
		Findings []finding.Finding `json:"findings"`
	}{timetable.Compile(s), found}); err != nil {
		t.Fatal(err)
	}
	const golden = "testdata/demo.plan.json"
	if os.Getenv("UPDATE_GOLDEN") != "" {
		if err := os.WriteFile(golden, b.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(golden)
	if err != nil {
		t.Fatal(err)
	}
	got, has := strings.Split(b.String(), "\n"), strings.Split(string(want), "\n")
	for i := range got {
		if i >= len(has) || got[i] != has[i] {
			t.Fatalf("the plan of the demo site is otherwise than %s from line %d on:\n%s", golden, i+1,
				strings.Join(got[max(0, i-5):min(len(got), i+10)], "\n"))
		}
	}
	if len(has) != len(got) {
		t.Errorf("the plan of the demo site has %d lines, and %s has %d", len(got), golden, len(has))
	}
}
