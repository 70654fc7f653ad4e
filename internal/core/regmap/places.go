package regmap

import (
	"fmt"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
)

// ParsePlace reads an address cell of a foreign table: any notation of the
// scheme, with a comma between thousands, or a range of units (711-712)
// whose length it returns. A bare number counts in area, from 1 if fromOne.
func ParsePlace(scheme address.Scheme, text, area string, fromOne bool) (a address.Address, units int, err error) {
	clean := tidyPlace(text, Reading{})
	for _, between := range []string{" to ", "…", "..", "–", "-", "/"} {
		from, to, run := strings.Cut(clean, between)
		if !run || from == "" || to == "" {
			continue
		}
		begin, err := parseOne(scheme, from, area, fromOne)
		if err != nil {
			break
		}
		first := block.Of(begin)
		end, err := parseOne(scheme, to, first.Area, fromOne)
		last := block.Of(end)
		if err == nil && last.Area != first.Area ||
			err == nil && len(strings.TrimSpace(to)) < len(strings.TrimSpace(from)) {
			// 711/12 or 711-2: the end is given by its last digits.
			f, t := strings.TrimSpace(from), strings.TrimSpace(to)
			if allDigits(f) && allDigits(t) && len(t) < len(f) {
				end, err = parseOne(scheme, f[:len(f)-len(t)]+t, area, fromOne)
				last = block.Of(end)
			}
		}
		if err != nil || last.Area != first.Area || last.Offset < first.Offset || last.Offset-first.Offset > 124 {
			return a, 0, fmt.Errorf("address %q: the range does not run up from its first register, or is "+
				"longer than 125", text)
		}
		return begin, int(last.Offset-first.Offset) + 1, nil
	}
	a, err = parseOne(scheme, clean, area, fromOne)
	return a, 0, err
}

// suchAs names an area of a scheme as an example.
func suchAs(scheme address.Scheme) string {
	if areas := block.AreasOf(scheme); len(areas) > 0 {
		return ", such as " + areas[0].Title
	}
	return ""
}

func allDigits(text string) bool {
	for i := 0; i < len(text); i++ {
		if text[i] < '0' || text[i] > '9' {
			return false
		}
	}
	return text != ""
}

// counted turns a place counted from 1 into one counted from 0.
func counted(a address.Address) address.Address {
	if at := block.Of(a); at.Offset > 0 {
		return block.Moved(a, at.Offset-1)
	}
	return a
}

func parseOne(scheme address.Scheme, text, area string, fromOne bool) (address.Address, error) {
	t := strings.TrimSpace(text)
	whole, _, _ := strings.Cut(t, ".")
	bare := allDigits(whole) && len(whole) < 5
	if bare && fromOne {
		if strings.Trim(whole, "0") == "" {
			return address.Address{}, fmt.Errorf("address %q: the list counts from 1, so 0 does not exist", text)
		}
		a, err := scheme.Parse(t, area)
		if err == nil {
			a = counted(a)
		}
		return a, err
	}
	if !bare && area != "" && allDigits(whole) && len(whole) == 5 {
		// Five digits in a table that is stated elsewhere may be an offset: the
		// first digit then names no table.
		if a, err := scheme.Parse(t, area); err == nil && block.Of(a).Area == area {
			return a, nil
		}
		a, err := scheme.Parse(area+t, area)
		if err == nil && fromOne {
			a = counted(a)
		}
		return a, err
	}
	return scheme.Parse(t, area)
}
