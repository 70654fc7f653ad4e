package files

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"ferry/internal/core/regmap"
)

// spec reads a type where it is used.
func (d *declarations) spec(name token, full string, depth int) (t iecType, ok bool) {
	if depth > mostNested {
		d.fault(d.ahead, "structures are nested more than %d deep", mostNested)
		return t, false
	}
	switch {
	case d.ahead.is("STRUCT"):
		d.take()
		d.structure(name, full, depth)
		return iecType{TypeName: full}, true
	case d.ahead.is("ARRAY"):
		return d.array(name, full, depth)
	case d.ahead.is("STRING"), d.ahead.is("WSTRING"):
		return d.bounded()
	case d.ahead.kind != 'w':
		d.fault(d.ahead, "%q stands where the type of %s is expected", d.ahead.text, name.text)
		return t, false
	}
	t.TypeName = d.take().text
	if d.ahead.is("(") { // a subrange does not change where it lies
		for d.ahead.kind != 0 && !d.ahead.is(")") && !d.ahead.is(";") {
			d.take()
		}
		if !d.expect(")", "the range of "+name.text) {
			return t, false
		}
	}
	return t, true
}

// mostDimensions bounds those of an array.
const mostDimensions = 4

func (d *declarations) array(name token, full string, depth int) (t iecType, ok bool) {
	opened := d.take()
	if !d.expect("[", "the array "+name.text) {
		return t, false
	}
	defined := &iecDefined{Kind: "ArrayTypeSpec"}
	for {
		low, okLow := d.number()
		if !okLow || !d.expect("..", "the bounds of "+name.text) {
			return t, false
		}
		high, okHigh := d.number()
		if !okHigh {
			return t, false
		}
		if high < low {
			d.fault(opened, "the array %s runs from %d to %d", name.text, low, high)
			return t, false
		}
		dimension := iecDimension{Number: len(defined.Dimensions) + 1}
		dimension.Index.Lower, dimension.Index.Upper = strconv.Itoa(low), strconv.Itoa(high)
		if defined.Dimensions = append(defined.Dimensions, dimension); !d.ahead.is(",") {
			break
		}
		d.take()
	}
	if !d.expect("]", "the array "+name.text) || !d.expect("OF", "the array "+name.text) {
		return t, false
	}
	if len(defined.Dimensions) > mostDimensions {
		d.fault(opened, "the array %s has %d dimensions: up to %d are read", name.text, len(defined.Dimensions),
			mostDimensions)
		return t, false
	}
	if d.ahead.is("ARRAY") {
		d.fault(d.ahead, "%s is an array of arrays: declare an array of a structure with an array in it", name.text)
		return t, false
	}
	base, ok := d.spec(name, full, depth)
	defined.BaseType = &base
	return iecType{Defined: defined}, ok
}

// bounded reads STRING and WSTRING with their lengths.
func (d *declarations) bounded() (t iecType, ok bool) {
	word := d.take()
	defined := &iecDefined{Kind: strings.ToUpper(word.text), MaxLength: "254"}
	for _, pair := range [][2]string{{"[", "]"}, {"(", ")"}} {
		if d.ahead.is(pair[0]) {
			d.take()
			n, ok := d.number()
			if !ok || !d.expect(pair[1], "the length of a "+word.text) {
				return t, false
			}
			defined.MaxLength = strconv.Itoa(n)
		}
	}
	return iecType{Defined: defined}, true
}

// number reads a whole number, typed or with a base, or a constant.
func (d *declarations) number() (n int, ok bool) {
	sign := 1
	if d.ahead.is("-") {
		d.take()
		sign = -1
	}
	t := d.ahead
	if t.kind == 'w' || t.kind == 'n' {
		d.take()
		if v, known := d.constants[strings.ToUpper(t.text)]; known {
			return sign * v, true
		}
		if v, err := wholeNumber(t.text); err == nil {
			return sign * v, true
		}
	}
	d.fault(t, "%q is no whole number, and no constant that is declared before", t.text)
	return 0, false
}

// wholeNumber reads 12, 1_000, 16#FF and INT#5.
func wholeNumber(text string) (int, error) {
	parts := strings.Split(strings.ReplaceAll(text, "_", ""), "#")
	base := 10
	if len(parts) > 1 {
		if b, err := strconv.Atoi(parts[len(parts)-2]); err == nil {
			base = b
		}
	}
	if base < 2 || base > 36 {
		return 0, fmt.Errorf("base %d", base)
	}
	n, err := strconv.ParseInt(parts[len(parts)-1], base, 64)
	if err != nil || n > math.MaxInt32 || n < math.MinInt32 {
		return 0, fmt.Errorf("%q is no number", text)
	}
	return int(n), nil
}

// initial passes over a start value, and returns it if it is a whole number.
func (d *declarations) initial() *int {
	if !d.ahead.is(":=") {
		return nil
	}
	d.take()
	var only *int
	first := true
	depth := 0
	for d.ahead.kind != 0 && (depth > 0 || !d.ahead.is(";") && !d.ahead.is(",")) {
		if d.ahead.is("END_VAR") || d.ahead.is("END_STRUCT") || d.ahead.is("END_TYPE") {
			break
		}
		if d.ahead.is("(") || d.ahead.is("[") {
			depth++
		} else if d.ahead.is(")") || d.ahead.is("]") {
			depth--
		}
		t := d.take()
		only = nil
		if n, err := wholeNumber(t.text); err == nil && first {
			only = &n
		}
		first = false
	}
	return only
}

// resolve writes the names of types as they were declared, for IEC 61131-3 does
// not tell capitals apart, and says which are declared nowhere.
func (d *declarations) resolve() {
	names := map[string]string{}
	for _, t := range d.doc.types {
		key := strings.ToUpper(t.Name)
		if other, twice := names[key]; twice {
			d.faults = append(d.faults,
				regmap.Rejected{Line: t.line, Cell: t.Name,
					Reason: fmt.Sprintf("the type %s is declared twice", other)})
			continue
		}
		names[key] = t.Name
	}
	resolve := func(v *iecVariable, of string) {
		t := &v.Type
		if t.Defined != nil && t.Defined.BaseType != nil {
			t = t.Defined.BaseType
		}
		if t.Defined != nil || t.TypeName == "" {
			return
		}
		if name, ok := names[strings.ToUpper(t.TypeName)]; ok {
			t.TypeName = name
			return
		}
		if _, _, err := regmap.ParseType(t.TypeName); err != nil && len(d.faults) < mostFaults {
			d.faults = append(d.faults, regmap.Rejected{Line: v.line, Column: "type", Cell: t.TypeName,
				Reason: fmt.Sprintf("the type %s of %s is declared nowhere", t.TypeName,
					strings.TrimPrefix(of+"."+v.Name, "."))})
		}
	}
	for i := range d.doc.types {
		for k := range d.doc.types[i].Spec.Members {
			resolve(&d.doc.types[i].Spec.Members[k], d.doc.types[i].Name)
		}
		if base := d.doc.types[i].Spec.BaseType; base != nil {
			alias := iecVariable{Name: d.doc.types[i].Name, Type: *base, line: d.doc.types[i].line}
			resolve(&alias, "")
			d.doc.types[i].Spec.BaseType = &alias.Type
		}
	}
	for i := range d.doc.variables {
		resolve(&d.doc.variables[i], "")
	}
}
