package crossing

import (
	"strings"
	"testing"

	"ferry/internal/core/site"
)

// TestWords: what a crossing says of itself is read back as the same.
func TestWords(t *testing.T) {
	least, most, four := 0.0, 100.0, int64(4)
	for words, x := range map[string]site.Crossing{
		"as it is":                             {},
		"÷ 100, moves by 5":                    {Factor: 0.01, Deadband: 5},
		"× 1.8 + 32":                           {Factor: 1.8, Offset: 32},
		"− 3":                                  {Offset: -3},
		"as it is, moves by 2 %, every 500 ms": {Deadband: 2, Percent: true, PaceMs: 500},
		"°C → °F, both ways":                   {Both: site.LaterTies, Way: []site.Step{{Do: site.DoUnit, From: "°C", To: "°F"}}},
		"by their units":                       {Way: []site.Step{{Do: site.DoUnit}}},
		"bit 3, upside down":                   {Way: []site.Step{{Do: site.DoBit, Bit: 3}, {Do: site.DoNot}}},
		"into bit 7":                           {Way: []site.Step{{Do: site.DoPut, Bit: 7}}},
		"within 0 … 100, × 2":                  {Way: []site.Step{{Do: site.DoClamp, Least: &least, Most: &most}, {Do: site.DoScale, Factor: 2}}},
		"3→2 · 0→1 · else 4":                   {Way: []site.Step{{Do: site.DoTable, Table: []site.Becomes{{From: 3, To: 2}, {From: 0, To: 1}}, Else: &four}}},
		"as a total":                           {Way: []site.Step{{Do: site.DoCount}}},
		"read as float32 CDAB":                 {Way: []site.Step{{Do: site.DoReread, Type: "float32", Order: "CDAB"}}},
		"12 characters":                        {Way: []site.Step{{Do: site.DoText, Length: 12}}},
		"= max(a, b) > 3 ? a : b":              {Way: []site.Step{{Do: site.DoFormula, Formula: "max(a, b) > 3 ? a : b"}}},
	} {
		if got := Words(&x); got != words {
			t.Errorf("said as %q, want %q", got, words)
		}
		back, err := ParseWords(words)
		if err != nil || Words(&back) != words {
			t.Errorf("%q is read as %q, %v", words, Words(&back), err)
		}
	}
	for _, bad := range []string{"sideways", "÷ 0", "× x", "bit", "3→2 · seven"} {
		if x, err := ParseWords(bad); err == nil {
			t.Errorf("%q is read as %+v", bad, x)
		}
	}
}

func FuzzParseWords(f *testing.F) {
	for _, text := range []string{"÷ 10, moves by 0.5", "3→2 · else 4", "= a + (b, c)", "within 0 … 1, every 3 s", "× 1e400"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		x, err := ParseWords(text)
		if err != nil {
			return
		}
		if again, err := ParseWords(Words(&x)); err == nil && Words(&again) != Words(&x) && !strings.Contains(Words(&x), "…") {
			t.Errorf("%q says %q, which says %q", text, Words(&x), Words(&again))
		}
	})
}
