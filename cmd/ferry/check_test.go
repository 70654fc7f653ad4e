package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ferry/internal/core/finding"
)

// TestCheck: a site is judged on paper from all sides, the worst first.
func TestCheck(t *testing.T) {
	const demo = "../../internal/bench/demo.site.json"
	if code, out, _ := do(t, "check", demo); code != exitFound ||
		!strings.HasPrefix(out, "fault DO probe 12 · FlowWash: ") || !strings.HasSuffix(out, " findings\n") {
		t.Errorf("exit %d: %s", code, out)
	}
	data, err := os.ReadFile(demo)
	if err != nil {
		t.Fatal(err)
	}
	// A number that is given twice, and a pace that the line cannot hold.
	odd := strings.Replace(string(data), `"unit": 14`, `"unit": 13`, 1)
	odd = strings.Replace(odd, `"paceMs": 1000`, `"paceMs": 10`, 1)
	path := filepath.Join(t.TempDir(), "odd.json")
	if err := os.WriteFile(path, []byte(odd), 0o600); err != nil {
		t.Fatal(err)
	}
	var said struct {
		Site     string
		Findings []finding.Finding
	}
	code, out, _ := do(t, "check", path, "--json")
	if err := json.Unmarshal([]byte(out), &said); err != nil || code != exitFound || said.Site == "" {
		t.Fatalf("exit %d, %v: %s", code, err, out)
	}
	where := map[string]bool{}
	for i := range said.Findings {
		where[said.Findings[i].Where] = true
	}
	if !where["lines"] || !where["points"] || !where["timetable"] {
		t.Errorf("findings come from %v", where)
	}
	if code, _, errs := do(t, "check", "gone.json"); code != exitUsage || errs == "" {
		t.Errorf("exit %d, %q", code, errs)
	}
}
