package files

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"ferry/internal/core/site"
)

// members are the lists of a site file with what each holds.
var members = map[string]func() any{
	"lines": func() any { return &site.Line{} }, "devices": func() any { return &site.Device{} },
	"links":     func() any { return &site.Link{} },
	"crossings": func() any { return &site.Crossing{} }, "lists": func() any { return &site.List{} },
	"datasheets": func() any { return &site.Datasheet{} },
	"structures": func() any { return &site.Structure{} },
	"lookouts":   func() any { return &site.Lookout{} }, "outlets": func() any { return &site.Outlet{} },
	"points": func() any { return &site.Point{} }, "ports": func() any { return &site.Port{} },
}

// blame finds the field of a site file that cannot be read, by reading each part
// alone. It returns its path and why, or an empty path where it finds none.
func blame(data []byte) (path string, cause error) {
	return blameIn(data, "", func() any { return &site.Site{} })
}

func blameIn(object []byte, path string, of func() any) (string, error) {
	var fields map[string]json.RawMessage
	if err := json.Unmarshal(object, &fields); err != nil {
		return "", err
	}
	for _, name := range slices.Sorted(maps.Keys(fields)) {
		one, err := json.Marshal(map[string]json.RawMessage{name: fields[name]})
		if err != nil {
			continue
		}
		d := json.NewDecoder(bytes.NewReader(one))
		d.DisallowUnknownFields()
		cause := d.Decode(of())
		if cause == nil {
			continue
		}
		at := strings.TrimPrefix(path+"."+name, ".")
		var list []json.RawMessage
		if member, ok := members[name]; ok && json.Unmarshal(fields[name], &list) == nil {
			for i, each := range list {
				if inner, why := blameIn(each, fmt.Sprintf("%s[%d]", at, i), member); inner != "" {
					return inner, why
				}
			}
		}
		return at, cause
	}
	return "", nil
}

// lineOf finds the line on which a place of a JSON document is, given by its path
// such as devices[3].points[7].address; where its last part is not there, that of
// what it would be in. It returns 0 where the document does not begin so.
func lineOf(data []byte, path string) int {
	d := json.NewDecoder(bytes.NewReader(data))
	offset := int64(-1)
	parts := strings.FieldsFunc(path, func(r rune) bool { return r == '.' || r == '[' || r == ']' })
	if _, err := d.Token(); err != nil {
		return 0
	}
	for _, part := range parts {
		found := false
		if n, err := strconv.Atoi(part); err == nil {
			found = nth(d, n)
		} else {
			found = key(d, part)
		}
		if !found {
			break
		}
		offset = begins(data, d.InputOffset())
		if part == parts[len(parts)-1] {
			break
		}
		if t, err := d.Token(); err != nil || t != json.Delim('{') && t != json.Delim('[') {
			break
		}
	}
	if offset < 0 {
		return 0
	}
	return 1 + bytes.Count(data[:offset], []byte("\n"))
}

// begins is where what comes next in a document begins.
func begins(data []byte, from int64) int64 {
	for from < int64(len(data)) && strings.ContainsRune(" \t\r\n,:", rune(data[from])) {
		from++
	}
	return from
}

// nth passes over the first n members of an array whose beginning was read.
func nth(d *json.Decoder, n int) bool {
	for range n {
		if !d.More() || !pass(d) {
			return false
		}
	}
	return d.More()
}

// key passes over the members of an object up to the value of one.
func key(d *json.Decoder, name string) bool {
	for d.More() {
		t, err := d.Token()
		if err != nil {
			return false
		}
		if t == name {
			return true
		}
		if !pass(d) {
			return false
		}
	}
	return false
}

// pass passes over one value.
func pass(d *json.Decoder) bool {
	var skipped json.RawMessage
	return d.Decode(&skipped) == nil
}
