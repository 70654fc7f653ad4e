package exchange

import "testing"

// TestSpread: a dissection of all octets of a direction comes apart into that of
// its frames.
func TestSpreadFrames(t *testing.T) {
	frames := []Frame{{Out: true, Octets: []byte("ask")}, {Octets: []byte("ans")}, {Octets: []byte("wer!")}}
	out, in := Sides(frames)
	if string(out) != "ask" || string(in) != "answer!" {
		t.Fatalf("sides are %q and %q", out, in)
	}
	got := Spread(frames, []Field{{From: 0, To: 3, Label: "q"}},
		[]Field{{From: 0, To: 2, Label: "head"}, {From: 2, To: 5, Label: "value"}, {From: 5, To: 7, Label: "tail"}})
	for i, want := range []string{"0-3 :q=", "0-2 :head=; 2-3 :value=", "0-2 :value=; 2-4 :tail="} {
		if said := words(got[i]); said != want {
			t.Errorf("frame %d has %s, want %s", i, said, want)
		}
	}
	if string(frames[1].Octets) != "ans" {
		t.Error("putting sides together wrote over a frame")
	}
}
