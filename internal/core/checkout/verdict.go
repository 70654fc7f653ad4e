package checkout

import (
	"cmp"
	"fmt"
	"math"
	"strconv"
	"strings"

	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Verdict is what a value that was read says about one that a display shows.
type Verdict struct {
	Agrees bool `json:"agrees"`
	// Within is by how much they may be apart, Apart by how much they are; 0 for what is
	// no number.
	Within float64 `json:"within"`
	Apart  float64 `json:"apart"`
	// Says is how the tolerance comes about.
	Says string `json:"says"`
}

// Judge compares what was read of a point with what somebody typed from the display of the
// device: numbers to within half of the last digit that is shown, or half a step of the
// point where that is more; states, names and texts exactly.
func Judge(p *site.Point, read value.Value, typed string) (v Verdict, err error) {
	typed = strings.TrimSpace(typed)
	if typed == "" {
		return v, fmt.Errorf("nothing was typed")
	}
	if unit := strings.TrimSpace(p.Unit); unit != "" && !p.Type.IsText() {
		if rest := strings.TrimSuffix(typed, unit); rest != typed {
			typed = strings.TrimSpace(rest)
		}
	}
	shown, err := p.ParseValue(typed)
	if err != nil {
		return v, err
	}
	switch {
	case read.Kind() == value.Text:
		v.Agrees, v.Says = strings.TrimSpace(read.Text()) == strings.TrimSpace(shown.Text()), "letter by letter"
		return v, nil
	case read.Kind() == value.Bool || shown.Kind() == value.Bool:
		v.Agrees, v.Says = read.Bool() == shown.Bool(), "a state"
		return v, nil
	case !number(read) || !number(shown):
		v.Agrees, v.Says = p.Shown(read) == p.Shown(shown), "as it is shown"
		return v, nil
	case len(p.Names) > 0 || p.Type.IsFlags():
		v.Agrees, v.Says = read.Int() == shown.Int(), "a named value"
		return v, nil
	}
	v.Apart = math.Abs(read.Float() - shown.Float())
	v.Within, v.Says = lastDigit(typed)/2, "half of its last digit"
	if step := stepOf(p); step/2 > v.Within {
		v.Within, v.Says = step/2, "half a step of the point"
	}
	// A number in 32 bits is known to some seven digits.
	slack := 1e-9 * math.Abs(read.Float())
	if p.Type == value.TypeFloat32 {
		slack = 1e-6 * math.Abs(read.Float())
	}
	v.Agrees = v.Apart <= v.Within*(1+1e-9)+slack
	return v, nil
}

// lastDigit is what one of the last digit of a number stands for: 0.1 in 12.7.
func lastDigit(text string) float64 {
	text = strings.ReplaceAll(strings.ToLower(text), ",", ".")
	exponent := 0
	if digits, rest, ok := strings.Cut(text, "e"); ok {
		text = digits
		exponent, _ = strconv.Atoi(rest) // a number that was read already
	}
	_, decimals, _ := strings.Cut(text, ".")
	return math.Pow10(exponent - len(decimals))
}

// stepOf is by how much a value that is whole in the device moves at least; 0 for one that
// is not.
func stepOf(p *site.Point) float64 {
	if p.Range != nil || !p.Type.IsWhole() {
		return 0
	}
	return math.Abs(cmp.Or(p.Factor, 1))
}
