package regmap

import (
	"fmt"
	"math"
	"strings"
	"time"

	"ferry/internal/core/site"
	"ferry/internal/core/unit"
	"ferry/internal/core/value"
)

// bounds are the least and the greatest number that an instrument shows in a
// unit of a kind, and the smallest above zero that it can tell.
type bounds struct{ least, greatest, smallest float64 }

// everything is for units of any kind that has no bounds of its own.
var everything = bounds{-1e12, 1e12, 1e-9}

// shown are the bounds of kinds for which narrower ones are sure, whatever the
// unit of the kind.
var shown = map[string]bounds{
	"temperature":   {-460, 5000, 1e-6},
	"acidity":       {-2, 16, 1e-4},
	"ratio":         {-1e5, 1e5, 1e-7},
	"frequency":     {-1e9, 1e9, 1e-6},
	"voltage":       {-1e8, 1e8, 1e-7},
	"current":       {-1e8, 1e8, 1e-7},
	"flow":          {-1e8, 1e8, 1e-7},
	"concentration": {-1e7, 1e7, 1e-7},
	"conductivity":  {-1e7, 1e7, 1e-7},
	"turbidity":     {-1e5, 1e5, 1e-5},
	"angle":         {-1e6, 1e6, 1e-7},
	"signal":        {-1e4, 1e4, 1e-6},
}

// absolute are units with a zero below which nothing is.
var absolute = map[string]float64{"°C": -273.15, "degC": -273.15, "℃": -273.15, "K": 0, "°F": -459.67, "℉": -459.67}

// Doubt says why a value that was read of a point is hardly what is meant; empty
// for no reason. raw is the number as the device sends it, v what it stands for.
func Doubt(p *site.Point, raw, v value.Value) string {
	if why := clockDoubt(v); why != "" {
		return why
	}
	if len(p.Missing) == 0 {
		if code := noValue(p, raw); code != "" {
			return fmt.Sprintf("%s is what many devices send for “no value”: if this one does, note it as "+
				"not available", code)
		}
	}
	f := v.Float()
	switch v.Kind() {
	case value.Float, value.Int, value.Uint:
	default:
		return ""
	}
	if math.IsNaN(f) || math.IsInf(f, 0) {
		return "the words are no number in this type and order"
	}
	if p.Type == value.TypeEnum || p.Type == value.TypeEnum32 {
		if _, named := p.NameOf(v.Int()); !named && len(p.Names) > 0 {
			return fmt.Sprintf("%s is none of its named values", v)
		}
		return ""
	}
	if p.Type.IsFlags() || p.Type == value.TypeBits {
		return ""
	}
	if p.Low != nil && f < *p.Low || p.High != nil && f > *p.High {
		return "it is outside the limits that the map gives"
	}
	if size := math.Abs(f); p.Type.IsFloat() && (size > 1e15 || size > 0 && size < 1e-12) {
		return hardly(p, v)
	}
	kind := unit.Kind(p.Unit)
	if kind == "" {
		return ""
	}
	b, ok := shown[kind]
	if !ok {
		b = everything
	}
	if zero, is := absolute[p.Unit]; is {
		b.least = zero
	}
	if f < b.least || f > b.greatest || p.Type.IsFloat() && f != 0 && math.Abs(f) < b.smallest {
		return hardly(p, v)
	}
	return ""
}

func hardly(p *site.Point, v value.Value) string {
	number := v.String()
	if p.Unit != "" {
		number += " " + p.Unit
	}
	what := "type and scale"
	if p.Type.Bytes(p.Length) > 2 {
		what = "type and order"
	}
	return "no instrument shows " + number + ": look at its " + what
}

// noValue returns the code that a raw number is, where devices send it for a
// value that they do not have. Numbers without a unit may be anything.
func noValue(p *site.Point, raw value.Value) string {
	width := 8 * p.Type.Bytes(p.Length)
	if width < 16 || !p.Type.IsWhole() || p.Type.Named() || p.Unit == "" ||
		raw.Kind() != value.Int && raw.Kind() != value.Uint {
		return ""
	}
	least, greatest := p.Type.Range(p.Length)
	switch f := raw.Float(); {
	case least < 0 && f == least:
		return "0x8" + strings.Repeat("0", width/4-1)
	case f == greatest && least < 0:
		return "0x7" + strings.Repeat("F", width/4-1)
	case f == greatest && math.Ldexp(1, width)-1 == greatest: // not of decimals
		return "0x" + strings.Repeat("F", width/4)
	}
	return ""
}

// Moments outside these are those of clocks that nobody set.
var (
	firstMoment = time.Date(1990, 1, 1, 0, 0, 0, 0, time.UTC).UnixMilli()
	lastMoment  = time.Date(2100, 1, 1, 0, 0, 0, 0, time.UTC).UnixMilli()
)

// clockDoubt doubts moments at which no device was running.
func clockDoubt(v value.Value) string {
	if v.Kind() != value.Moment {
		return ""
	}
	switch ms := v.Int(); {
	case ms == 0:
		return "the count of its clock is zero: the device has no time"
	case ms < firstMoment:
		return "the clock of the device is before 1990: it has not been set, or the type is another"
	case ms >= lastMoment:
		return "the clock of the device is after 2099: it has no time, or the type or the order is another"
	}
	return ""
}
