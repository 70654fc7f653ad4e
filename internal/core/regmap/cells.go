// Package regmap holds the rules of a device's map: how its cells are typed
// and printed, how a table becomes points, and what can be wrong with them.
package regmap

import (
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"

	"ferry/internal/core/address"
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
	Remark   Column = "remark"
)

// Columns lists all columns in order.
func Columns() []Column {
	return []Column{Name, Address, Type, Order, Scale, Offset, Unit, Pace, Decimals, Access, Remark}
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
		return scheme.Short(p.Address)
	case Type:
		if p.Type == value.TypeText {
			return "text " + strconv.Itoa(p.Length)
		}
		return string(p.Type)
	case Order:
		if p.Order == "" && p.Type.Bytes(p.Length) > 2 && p.Type != value.TypeText {
			return "ABCDEFGH"[:p.Type.Bytes(0)]
		}
		return string(p.Order)
	case Scale:
		return printFactor(p.Factor)
	case Offset:
		if p.Offset == 0 {
			return ""
		}
		return strconv.FormatFloat(p.Offset, 'g', -1, 64)
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

// ParsePace reads a pace: a number with ms, s, min or h; a number alone means
// seconds; "once" and "" as PrintPace prints them and as nothing was said.
func ParsePace(text string) (int, error) {
	t := strings.ToLower(strings.TrimSpace(text))
	if t == "once" || t == "0" {
		return 0, nil
	}
	digits := strings.TrimRight(t, " abcdefghijklmnopqrstuvwxyz")
	factor, known := map[string]float64{"ms": 1, "s": 1000, "sec": 1000, "": 1000, "min": 60000, "m": 60000, "h": 3600000}[strings.TrimSpace(t[len(digits):])]
	n, err := number(digits)
	if err != nil || !known {
		return 0, fmt.Errorf("pace %q: write it as 500 ms, 1 s, 2 min or once", text)
	}
	ms := n * factor
	if ms < 10 || ms > 7*24*3600*1000 || ms != math.Trunc(ms) {
		return 0, fmt.Errorf("pace %q: give 10 ms to 7 days, or once", text)
	}
	return int(ms), nil
}

// number reads a decimal number with a point or a comma.
func number(text string) (float64, error) {
	t := strings.NewReplacer(" ", "", "\u2009", "", "\u00a0", "", "\u2212", "-").Replace(text)
	if !strings.Contains(t, ".") {
		t = strings.Replace(t, ",", ".", 1)
	}
	f, err := strconv.ParseFloat(t, 64)
	if err != nil || math.IsNaN(f) || math.IsInf(f, 0) {
		return 0, errors.New("not a number")
	}
	return f, nil
}

func parseFactor(text string) (float64, error) {
	t := strings.TrimSpace(text)
	if t == "" {
		return 0, nil
	}
	divide := strings.HasPrefix(t, "÷") || strings.HasPrefix(t, "/") || strings.HasPrefix(t, "1/")
	t = strings.TrimPrefix(t, "1/")
	t = strings.TrimLeft(t, "÷/×x* ")
	n, err := number(t)
	if err != nil || n == 0 {
		return 0, fmt.Errorf("scale %q: write a factor such as 0.1, × 0.1 or ÷ 10", text)
	}
	if divide {
		n = 1 / n
	}
	if n == 1 {
		return 0, nil
	}
	return n, nil
}

// typeWords are other spellings that tables use for the types.
var typeWords = map[string]value.Type{
	"boolean": value.TypeBool, "bit": value.TypeBool,
	"int": value.TypeInt16, "sint16": value.TypeInt16, "s16": value.TypeInt16, "i16": value.TypeInt16,
	"uint": value.TypeUint16, "word": value.TypeUint16, "u16": value.TypeUint16,
	"dint": value.TypeInt32, "s32": value.TypeInt32, "i32": value.TypeInt32,
	"udint": value.TypeUint32, "dword": value.TypeUint32, "u32": value.TypeUint32,
	"lint": value.TypeInt64, "s64": value.TypeInt64, "i64": value.TypeInt64,
	"ulint": value.TypeUint64, "lword": value.TypeUint64, "u64": value.TypeUint64,
	"real": value.TypeFloat32, "float": value.TypeFloat32, "f32": value.TypeFloat32,
	"lreal": value.TypeFloat64, "double": value.TypeFloat64, "f64": value.TypeFloat64,
	"string": value.TypeText, "char": value.TypeText,
}

// ParseType reads a type cell: a type, or one of its IEC 61131-3 or usual
// names; a text with its length, as in "text 8".
func ParseType(text string) (value.Type, int, error) {
	t := strings.ToLower(strings.TrimSpace(text))
	word := strings.TrimRight(t, " 0123456789()[]:")
	if digits := strings.Trim(t[len(word):], " ()[]:"); digits != "" && (word == "text" || typeWords[word] == value.TypeText) {
		n, err := strconv.Atoi(digits)
		if err != nil || n < 1 || n > 246 {
			return "", 0, fmt.Errorf("type %q: a text holds 1 to 246 characters", text)
		}
		return value.TypeText, n, nil
	}
	found := value.Type(t)
	if alias, ok := typeWords[t]; ok {
		found = alias
	}
	if found == value.TypeText {
		return "", 0, fmt.Errorf("type %q: a text needs its length, such as text 8", text)
	}
	if !found.Known() {
		return "", 0, fmt.Errorf("type %q: use bool, int16, uint16, int32, uint32, int64, uint64, float32, float64 or text with a length", text)
	}
	return found, 0, nil
}

func parseAccess(text string) (site.Access, error) {
	switch strings.ToLower(strings.NewReplacer("/", "", " ", "").Replace(text)) {
	case "", "r", "ro", "read", "readonly":
		return site.ReadOnly, nil
	case "rw", "wr", "readwrite":
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
		follow(scheme, &next, next.Type != value.TypeBool || p.Address.IsZero())
	case Type:
		if next.Type != value.TypeBool {
			next.Address = next.Address.WithBit(-1)
		} else if area, ok := address.AreaOf(scheme, next.Address.Area); ok && area.UnitBits > 1 && next.Address.Bit() < 0 {
			next.Address = next.Address.WithBit(0)
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
	area, ok := address.AreaOf(scheme, p.Address.Area)
	if !ok {
		return
	}
	bit := area.UnitBits == 1 || p.Address.Bit() >= 0
	if bit && free {
		p.Type, p.Length, p.Order = value.TypeBool, 0, ""
	}
	if !bit && p.Type == value.TypeBool {
		p.Type = value.TypeUint16
	}
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
		p.Address, err = scheme.Parse(text, p.Address.Area)
	case Type:
		p.Type, p.Length, err = ParseType(text)
	case Order:
		p.Order, err = value.ParseOrder(text, p.Type, p.Type.Bytes(p.Length))
	case Scale:
		p.Factor, err = parseFactor(text)
	case Offset:
		p.Offset = 0
		if strings.TrimSpace(text) != "" {
			if p.Offset, err = number(text); err != nil {
				err = fmt.Errorf("offset %q is not a number", text)
			}
		}
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
