package regmap

import (
	"slices"
	"strings"

	"ferry/internal/core/unit"
)

// KnownUnit reports whether a unit is one of those in use.
func KnownUnit(name string) bool { return unit.Kind(name) != "" }

// quantityWords name the quantity that a point's own name speaks of, with the
// kinds of unit that go with it.
var quantityWords = []struct {
	word  string
	kinds []string
}{
	{"temp", []string{"temperature"}}, {"pressure", []string{"pressure"}},
	{"flow", []string{"flow", "mass flow", "volume", "mass", "speed"}},
	{"voltage", []string{"voltage"}}, {"frequency", []string{"frequency"}}, {"energy", []string{"energy"}},
	{"hours", []string{"time"}},
}

// unitSuits reports whether the unit in may belong to a point of that name: it is
// not known, a ratio, or of a kind that the name speaks of, if it speaks of any.
func unitSuits(name, in string) bool {
	kind := unit.Kind(in)
	if kind == "" || kind == "ratio" || kind == "signal" {
		return true
	}
	lower := strings.ToLower(name)
	for _, q := range quantityWords {
		if strings.Contains(lower, q.word) {
			return slices.Contains(q.kinds, kind)
		}
	}
	return true
}
