package asleft_test

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"ferry/internal/bench"
	"ferry/internal/core/asleft"
	"ferry/internal/core/site"
	_ "ferry/internal/families"
)

// edited is the demo site after an edit of one object, whose JSON is changed by replacing.
func edited(t *testing.T, s *site.Site, kind site.Kind, id, parent, old, with string) *site.Site {
	t.Helper()
	edit := site.Edit{Kind: kind, ID: id, Parent: parent}
	if with != "" {
		for _, e := range site.Diff(site.New("none"), s) {
			if e.Kind == kind && e.ID == id {
				edit.After = json.RawMessage(strings.Replace(string(e.After), old, with, 1))
				if string(edit.After) == string(e.After) {
					t.Fatalf("%s %s has no %s: %s", kind, id, old, e.After)
				}
			}
		}
	}
	next, _, err := s.Apply([]site.Edit{edit})
	if err != nil {
		t.Fatal(err)
	}
	return next
}

// TestDivergences: each kind of difference is said in words, and bringing all of them over makes
// the site what it was, as does bringing them one by one.
func TestDivergences(t *testing.T) {
	then := bench.Demo()
	now := edited(t, then, site.KindPoint, "do11-01", "do11", `"hr0"`, `"hr8"`)
	now = edited(t, now, site.KindCrossing, "x-oxygen", "", `"deadband":0.02`, `"deadband":0.05`)
	now = edited(t, now, site.KindLink, "lss-do11", "", `"timeoutMs":300`, `"timeoutMs":500`)
	now = edited(t, now, site.KindDevice, "pump1", "", "", "")
	list := asleft.Divergences(then, now)
	want := map[string]string{
		"point do11-01":     "address was 40001, is 40009",
		"crossing x-oxygen": "way was as it is, moves by 0.02, is as it is, moves by 0.05",
		"link lss-do11":     "answer within was 300, is 500",
	}
	gone := 0
	for i := range list {
		d := &list[i]
		if d.Since == asleft.Gone {
			gone++
			continue
		}
		if words := strings.Join(d.Words, "; "); d.Since != asleft.Changed || !strings.Contains(words, want[d.Key()]) ||
			want[d.Key()] == "" {
			t.Errorf("%s (%s): %s %q", d.Key(), d.Name, d.Since, words)
		}
		delete(want, d.Key())
	}
	if len(want) > 0 || gone < 10 {
		t.Errorf("not said: %v; %d are gone", want, gone)
	}
	if same := asleft.Divergences(then, then); len(same) != 0 {
		t.Errorf("a site departs from itself: %v", same)
	}
	var keys []string
	for i := range list {
		keys = append(keys, list[i].Key())
	}
	back, _, err := now.Apply(asleft.Bring(list, keys))
	if err != nil {
		t.Fatal(err)
	}
	if left := asleft.Divergences(then, back); len(left) != 0 {
		t.Errorf("brought over, and not the same: %+v", left)
	}
	if other, _, err := then.Apply(asleft.Bring(asleft.Divergences(now, then), keys)); err != nil ||
		len(asleft.Divergences(now, other)) != 0 {
		t.Errorf("and back again: %v", err)
	}
	one := slices.Index(keys, "point do11-01")
	single, _, err := now.Apply(asleft.Bring(list, keys[one:one+1]))
	if err != nil || len(asleft.Divergences(then, single)) != len(list)-1 {
		t.Errorf("one of them: %v", err)
	}
}
