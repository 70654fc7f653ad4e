package block

import (
	"strings"
	"testing"
)

// TestNeighbours: a bit of a register as others count it.
func TestNeighbours(t *testing.T) {
	for _, c := range []struct {
		register uint32
		bit      int
		want     string
	}{{3, 0, "3.0 7.0 6.0 register 3, bit 1 of 16"}, {3, 15, "3.15 6.7 7.7 register 3, bit 16 of 16"},
		{0, 8, "0.8 0.0 1.0 register 0, bit 9 of 16"}} {
		var got []string
		for _, n := range Neighbours(c.register, c.bit) {
			got = append(got, n.Text)
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%d.%d is counted as %s, want %s", c.register, c.bit, strings.Join(got, " "), c.want)
		}
	}
}
