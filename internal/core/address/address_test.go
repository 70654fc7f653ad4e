package address

import (
	"testing"
)

// TestCanonical: addresses of every shape survive their file form.
func TestCanonical(t *testing.T) {
	for _, a := range []Address{{}, Numbered("hr", 2, -1), Numbered("hr", 2, 5), Numbered("db7", 12, 3),
		Named("node", "ns=2;s=Tank.O2"), Numbered("object2", 4194303, -1),
		Named("topic", "1/temp"), Named("tag", "12"), Named("tag", "Row[3].Level:2"), Named("", "Tank 11/O2")} {
		text, err := a.MarshalText()
		if err != nil {
			t.Fatal(err)
		}
		var back Address
		if err := back.UnmarshalText(text); err != nil || back != a {
			t.Errorf("%#v is written %q and reads as %#v, %v", a, text, back, err)
		}
	}
	if text := Numbered("", 2, -1).String(); text != ":2" {
		t.Errorf("a place in no area is written %q", text)
	}
	for _, bad := range []string{"hr", "2", ":2", "hr:", "hr2.", "hr2.99", "hr99999999999", "tag=", "tag:Level"} {
		if a, err := ParseCanonical(bad); err == nil {
			t.Errorf("%q reads as %s", bad, a)
		}
	}
}

// FuzzCanonical: whatever is read is written as it is read again.
func FuzzCanonical(f *testing.F) {
	for _, text := range []string{"hr2.5", "db7:12.3", "topic=1/temp", "=x", "", ":2", "a=b=c", "a:1=2"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		a, err := ParseCanonical(text)
		if err != nil {
			return
		}
		if back, err := ParseCanonical(a.String()); err != nil || back != a {
			t.Fatalf("%q reads as %#v, is written %q and reads as %#v, %v", text, a, a.String(), back, err)
		}
	})
}
