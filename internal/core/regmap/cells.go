// Package regmap holds the rules of a device's map: how its cells are typed
// and printed, how a table becomes points, and what can be wrong with them.
package regmap

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Column names one column of a map.
type Column string

// The columns, in the order in which they are shown and handed out.
const (
	Name     Column = "name"
	Address  Column = "address"
	Type     Column = "type"
	Order    Column = "order"
	Scale    Column = "scale"
	Offset   Column = "offset"
	Unit     Column = "unit"
	Pace     Column = "pace"
	Decimals Column = "decimals"
	Access   Column = "access"
	Names    Column = "names"
	Missing  Column = "missing"
	Low      Column = "low"
	High     Column = "high"
	Change   Column = "change" // the fastest change that matters
	Band     Column = "band"   // by how much it has to move until it is told
	Told     Column = "told"   // how the device groups it with others that it tells of
	Remark   Column = "remark"
)

// Columns lists all columns in order.
func Columns() []Column {
	return []Column{Name, Address, Type, Order, Scale, Offset, Unit, Pace, Decimals, Access, Names, Missing, Low, High,
		Change, Band, Told, Remark}
}

// ColumnsFor lists those of a map in a scheme: where values come with types of
// their own, their octets have no order; what is only ever read has no deadband, and is not told.
func ColumnsFor(scheme address.Scheme) []Column {
	if _, ok := block.ShapeOf(scheme); ok {
		return slices.DeleteFunc(Columns(), func(c Column) bool { return c == Band || c == Told })
	}
	return slices.DeleteFunc(Columns(), func(c Column) bool { return c == Order })
}

// Cell prints one cell of p as a person would type it.
func Cell(scheme address.Scheme, p *site.Point, column Column) string {
	switch column {
	case Name:
		return p.Name
	case Address:
		if p.Address.IsZero() {
			return ""
		}
		return address.Sized(scheme, p.Address, 8*p.Type.Bytes(p.Length))
	case Type:
		return PrintType(p)
	case Order:
		if width := p.Type.Bytes(p.Length); p.Order == "" && width > 2 && !p.Type.IsText() {
			return cmp.Or(string(block.Usual(p.Place().Area, p.Type, width)), "ABCDEFGH"[:width])
		}
		return string(p.Order)
	case Scale:
		return printScale(scheme, p)
	case Offset:
		if p.Offset == 0 {
			return ""
		}
		return printNumber(p.Offset)
	case Names:
		return printNames(p.Names)
	case Missing:
		return printCodes(p.Missing)
	case Low:
		return printBound(p.Low)
	case High:
		return printBound(p.High)
	case Change:
		if p.ChangeMs == 0 {
			return ""
		}
		return PrintPace(p.ChangeMs)
	case Band:
		if p.Band == 0 {
			return ""
		}
		return printNumber(p.Band)
	case Told:
		return p.Told
	case Unit:
		return p.Unit
	case Decimals:
		if p.Decimals == nil {
			return ""
		}
		return strconv.Itoa(*p.Decimals)
	case Pace:
		return PrintPace(p.PaceMs)
	case Access:
		return string(p.Access)
	case Remark:
		return p.Remark
	}
	return ""
}

func printNumber(f float64) string { return strconv.FormatFloat(f, 'g', -1, 64) }

func printBound(f *float64) string {
	if f == nil {
		return ""
	}
	return printNumber(*f)
}

func printFactor(f float64) string {
	if f == 0 || f == 1 {
		return ""
	}
	if f > 0 && f < 1 {
		if n := math.Round(1 / f); n < 1e9 && 1/n == f {
			return "÷ " + strconv.FormatFloat(n, 'f', -1, 64)
		}
	}
	return "× " + strconv.FormatFloat(f, 'g', -1, 64)
}

// PrintPace prints a pace in the largest unit that keeps it whole: "500 ms",
// "1 s", "2 min", or "once" for 0.
func PrintPace(ms int) string {
	switch {
	case ms == 0:
		return "once"
	case ms%3600000 == 0:
		return strconv.Itoa(ms/3600000) + " h"
	case ms%60000 == 0:
		return strconv.Itoa(ms/60000) + " min"
	case ms%1000 == 0:
		return strconv.Itoa(ms/1000) + " s"
	case ms%100 == 0 && ms > 1000:
		return strconv.FormatFloat(float64(ms)/1000, 'f', -1, 64) + " s"
	}
	return strconv.Itoa(ms) + " ms"
}

// parseChange reads the fastest change of a signal, written as a pace is; empty
// for not known.
func parseChange(text string) (int, error) {
	if strings.TrimSpace(text) == "" {
		return 0, nil
	}
	ms, err := ParsePace(text)
	if err != nil || ms == 0 {
		return 0, fmt.Errorf("fastest change %q: write it as 500 ms, 1 s or 2 min, or nothing", text)
	}
	return ms, nil
}

// ParsePace reads a pace: a number with ms, s, min or h; a number alone means
// seconds; "once" and "" as PrintPace prints them and as nothing was said.
func ParsePace(text string) (int, error) {
	t := strings.ToLower(strings.TrimSpace(text))
	if t == "once" || t == "0" {
		return 0, nil
	}
	digits := strings.TrimRight(t, " abcdefghijklmnopqrstuvwxyz")
	factor, known := map[string]float64{"ms": 1, "s": 1000, "sec": 1000, "": 1000, "min": 60000, "m": 60000,
		"h": 3600000}[strings.TrimSpace(t[len(digits):])]
	n, err := value.ParseFloat(digits)
	if err != nil || !known {
		return 0, fmt.Errorf("pace %q: write it as 500 ms, 1 s, 2 min or once", text)
	}
	ms := n * factor
	if ms < 10 || ms > 7*24*3600*1000 || ms != math.Trunc(ms) {
		return 0, fmt.Errorf("pace %q: give 10 ms to 7 days, or once", text)
	}
	return int(ms), nil
}

var accessMarks = strings.NewReplacer("/", "", " ", "", "-", "", "_", "", "&", "", "and", "")

func parseAccess(text string) (site.Access, error) {
	switch strings.ToLower(accessMarks.Replace(text)) {
	case "", "r", "ro", "read", "readonly", "rd":
		return site.ReadOnly, nil
	case "rw", "wr", "readwrite", "r+w", "writeread":
		return site.ReadWrite, nil
	case "w", "wo", "write", "writeonly":
		return site.WriteOnly, nil
	}
	return "", fmt.Errorf("access %q: write r, rw or w", text)
}

// SetCell changes one cell of p to what was typed, and what that forces in
// other cells with it: a bit in the address makes a bool of the point, another
// type takes the bit away, an order that no longer fits is dropped. On an
// error p is as it was.
func SetCell(scheme address.Scheme, p *site.Point, column Column, text string) error {
	next := *p
	if err := setCell(scheme, &next, column, text); err != nil {
		return err
	}
	switch column {
	case Address:
		follow(scheme, &next, !next.Type.InUnit() || p.Address.IsZero())
	case Type:
		if !next.Type.InUnit() {
			next.Address = block.WithBit(next.Address, -1)
		} else if next.Type != value.TypeBool {
			// A byte or a bit field stays at its bit.
		} else if area, ok := block.AreaOf(scheme, next.Place().Area); ok && area.UnitBits > 1 && next.Place().Bit < 0 {
			next.Address = block.WithBit(next.Address, 0)
		}
		// A rule for words and bytes is kept for the new width, any other
		// order means nothing there.
		order, err := value.ParseOrder(string(next.Order), next.Type, next.Type.Bytes(next.Length))
		if err != nil {
			order = ""
		}
		next.Order = order
	}
	if err := site.CheckPoint(scheme, &next); err != nil {
		return err
	}
	*p = next
	return nil
}

// follow makes the type of p fit an address that was just typed.
func follow(scheme address.Scheme, p *site.Point, free bool) {
	area, ok := block.AreaOf(scheme, p.Place().Area)
	if !ok {
		return
	}
	bit := area.UnitBits == 1 || p.Place().Bit >= 0
	if bit && free || area.UnitBits == 1 {
		retype(p, shaped{Type: value.TypeBool})
		p.Order = ""
	}
	if !bit && p.Type == value.TypeBool {
		p.Type = value.TypeUint16
		if area.UnitBits == 8 {
			p.Type = value.TypeUint8
		}
	}
}

// parseOrder reads an order. In an area whose numbers begin with their least significant
// octet, that is what no order means, and the other way round cannot be said.
func parseOrder(p *site.Point, text string) (value.Order, error) {
	width := p.Type.Bytes(p.Length)
	order, err := value.ParseOrder(text, p.Type, width)
	usual := block.Usual(p.Place().Area, p.Type, width)
	switch {
	case err != nil || usual == "" || strings.TrimSpace(text) == "":
		return order, err
	case order == usual:
		return "", nil
	case order == "":
		return "", fmt.Errorf("order %s: numbers begin with their least significant octet there: leave it empty, or write "+
			"another than %[1]s", strings.TrimSpace(text))
	}
	return order, nil
}

// setCell parses text into its field, without any regard to other fields but
// for the area that a bare offset is taken in.
func setCell(scheme address.Scheme, p *site.Point, column Column, text string) (err error) {
	switch column {
	case Name:
		if strings.TrimSpace(text) == "" {
			return errors.New("a point needs a name")
		}
		p.Name = strings.TrimSpace(text)
	case Address:
		p.Address, err = scheme.Parse(text, p.Place().Area)
	case Type:
		var to shaped
		if to, err = parseType(text); err == nil {
			retype(p, to)
		}
	case Order:
		p.Order, err = parseOrder(p, text)
	case Scale:
		err = parseScale(scheme, p, text)
	case Offset:
		p.Offset = 0
		if strings.TrimSpace(text) != "" {
			if p.Offset, err = value.ParseFloat(text); err != nil {
				err = fmt.Errorf("offset %q is not a number", text)
			}
		}
	case Names:
		p.Names, err = parseNames(text)
	case Missing:
		p.Missing, err = parseCodes(text, p.Type)
	case Low:
		p.Low, err = parseBound(text)
	case High:
		p.High, err = parseBound(text)
	case Change:
		p.ChangeMs, err = parseChange(text)
	case Band:
		p.Band = 0
		if strings.TrimSpace(text) != "" {
			if p.Band, err = value.ParseFloat(text); err != nil || p.Band < 0 {
				return fmt.Errorf("deadband %q: give what the value has to move by, in its unit", text)
			}
		}
	case Told:
		p.Told = strings.TrimSpace(text)
	case Unit:
		p.Unit = strings.TrimSpace(text)
	case Decimals:
		p.Decimals = nil
		if t := strings.TrimSpace(text); t != "" {
			n, convErr := strconv.Atoi(t)
			if convErr != nil || n < 0 || n > 12 {
				return fmt.Errorf("decimals %q: give a whole number from 0 to 12", text)
			}
			p.Decimals = &n
		}
	case Pace:
		p.PaceMs, err = ParsePace(text)
	case Access:
		p.Access, err = parseAccess(text)
	case Remark:
		p.Remark = strings.TrimSpace(text)
	default:
		err = fmt.Errorf("there is no column %q", column)
	}
	return err
}
