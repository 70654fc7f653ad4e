package drawn

import (
	"cmp"
	"strconv"
	"strings"

	"ferry/internal/core/protocol"
)

// Disparity is something in which two descriptions of devices differ.
type Disparity struct {
	// Path leads to it, its parts with strokes between; Kind is what it is.
	Path string `json:"path"`
	Kind string `json:"kind"`
	// One and Other are what either says; Lacks is "one" or "other" where that has not got it.
	One   string `json:"one"`
	Other string `json:"other"`
	Lacks string `json:"lacks,omitempty"`
}

// MostDisparities bounds those that are listed.
const MostDisparities = 2000

// Disparities are those of two descriptions.
type Disparities struct {
	List  []Disparity `json:"list"`
	Count int         `json:"count"` // of all
	Alike int         `json:"alike"` // entries that do not differ
}

func (d *Disparities) add(each Disparity) {
	if d.Count++; len(d.List) < MostDisparities {
		d.List = append(d.List, each)
	}
}

// Compare tells in what two files differ: devices by their names, or the only one of each.
func Compare(one, other protocol.Outline) Disparities {
	d := Disparities{List: []Disparity{}}
	heads, others := one.Heads(), other.Heads()
	if len(heads) == 1 && len(others) == 1 {
		d.entry("", &heads[0], &others[0])
		d.lists(heads[0].Name, one.Under(0), other.Under(0))
		return d
	}
	at := map[string]int{}
	for i := range others {
		at[others[i].Name] = i
	}
	for i := range heads {
		k, there := at[heads[i].Name]
		if !there {
			d.add(Disparity{heads[i].Name, heads[i].Kind, heads[i].Says, "", "other"})
			continue
		}
		delete(at, heads[i].Name)
		d.entry("", &heads[i], &others[k])
		d.lists(heads[i].Name, one.Under(i), other.Under(k))
	}
	for i := range others {
		if _, left := at[others[i].Name]; left {
			d.add(Disparity{others[i].Name, others[i].Kind, "", others[i].Says, "one"})
		}
	}
	return d
}

// entry compares two entries at the same place.
func (d *Disparities) entry(path string, a, b *protocol.Outlined) {
	path += a.Name
	if a.Name != b.Name {
		d.add(Disparity{path, a.Kind, a.Name, b.Name, ""})
	}
	if a.Kind != b.Kind || a.Says != b.Says {
		d.add(Disparity{path, a.Kind, cmp.Or(a.Says, a.Kind), cmp.Or(b.Says, b.Kind), ""})
		return
	}
	d.Alike++
}

// lists compares all that lies in two devices. What lies in something that one of them lacks is counted
// with it.
func (d *Disparities) lists(head string, a, b []protocol.Outlined) {
	index := map[string]int{}
	each(b, func(_, key string, i int) { index[key] = i })
	seen, lacking := make([]bool, len(b)), ""
	each(a, func(path, key string, i int) {
		if lacking != "" && strings.HasPrefix(key, lacking) {
			return
		}
		k, there := index[key]
		if !there {
			lacking = key + "/"
			d.add(Disparity{head + "/" + path, a[i].Kind, cmp.Or(a[i].Says, a[i].Kind), "", "other"})
			return
		}
		seen[k], lacking = true, ""
		d.entry(head+"/"+strings.TrimSuffix(path, a[i].Name), &a[i], &b[k])
	})
	lacking = ""
	each(b, func(path, key string, i int) {
		if seen[i] || lacking != "" && strings.HasPrefix(key, lacking) {
			return
		}
		lacking = key + "/"
		d.add(Disparity{head + "/" + path, b[i].Kind, "", cmp.Or(b[i].Says, b[i].Kind), "one"})
	})
}

// each goes through a list with the path of each entry, and with the key by which it is found in another
// list: those of one name in one place are told apart by what they are, and by their order.
func each(list []protocol.Outlined, of func(path, key string, i int)) {
	var way, keys []string
	met := map[string]int{}
	for i := range list {
		e := &list[i]
		depth := min(e.Depth, len(way))
		way, keys = append(way[:depth], e.Name), append(keys[:depth], e.Kind+" "+e.Name)
		key := strings.Join(keys, "/")
		if met[key]++; met[key] > 1 {
			keys[depth] += "#" + strconv.Itoa(met[key])
			key = strings.Join(keys, "/")
		}
		of(strings.Join(way, "/"), key, i)
	}
}

// ComparePlaces tells in what the values of a device of a file and those that a device lists of itself
// differ: what is missing on either side, and what is of another kind. How wide a whole number is does
// not count: not every device says.
func ComparePlaces(def *protocol.Def, head string, file, device []protocol.Held) Disparities {
	d := Disparities{List: []Disparity{}}
	d.lists(head, flat(def, file), flat(def, device))
	return d
}

func flat(def *protocol.Def, held []protocol.Held) []protocol.Outlined {
	list := make([]protocol.Outlined, len(held))
	for i := range held {
		h := &held[i]
		says := string(h.Shape.Type)
		switch {
		case h.Shape.Type.IsText():
			says = "text"
		case h.Shape.Type.IsWhole():
			says = "whole number"
		}
		list[i] = protocol.Outlined{Name: def.Scheme.Short(h.Address), Kind: "value", Says: says}
	}
	return list
}
