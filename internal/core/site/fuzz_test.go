package site

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"testing"
)

// model is what a site is, in the plainest way: the names of what there is, by
// kind and id, with what each hangs on.
type model map[string]modelled

type modelled struct {
	name string
	on   []string // keys that it goes with
}

func modelOf(s *Site) model {
	m := model{}
	for _, l := range s.Lines {
		m["line "+l.ID] = modelled{name: l.Name}
	}
	for _, d := range s.Devices {
		m["device "+d.ID] = modelled{name: d.Name}
		for _, p := range d.Points {
			m["point "+p.ID] = modelled{p.Name, []string{"device " + d.ID}}
		}
	}
	for _, l := range s.Links {
		m["link "+l.ID] = modelled{on: []string{"device " + l.Asking, "device " + l.Answering, "line " + l.Line}}
	}
	for _, x := range s.Crossings {
		m["crossing "+x.ID] = modelled{on: []string{"point " + x.From, "point " + x.To}}
	}
	return m
}

// remove takes something out with all that hangs on it.
func (m model) remove(key string) {
	delete(m, key)
	for other, each := range m {
		if slices.Contains(each.on, key) {
			m.remove(other)
		}
	}
}

// FuzzApply: random edits leave what a plain model of the site says, or change
// nothing; taken back, they leave the site as it was.
func FuzzApply(f *testing.F) {
	f.Add([]byte{0, 0, 1, 1, 5, 2, 2, 3, 0})
	f.Add([]byte{9, 1, 0, 9, 2, 1, 5, 5, 5, 7, 1, 1})
	f.Add([]byte{6, 0, 0, 6, 1, 1, 8, 0, 0, 3, 0, 9})
	f.Fuzz(func(t *testing.T, moves []byte) {
		if len(moves) > 90 {
			t.Skip()
		}
		s := tank()
		for i := 0; i+2 < len(moves); i += 3 {
			want, before := modelOf(s), asText(t, s)
			id := fmt.Sprint("n", moves[i+1]%5)
			if old := []string{"net", "lss", "do11", "gate", "o", "t", "g", "k1", "k2", "x"}; moves[i+1]%3 > 0 {
				id = old[int(moves[i+1])%len(old)]
			}
			name := fmt.Sprint("Name ", moves[i+2])
			var e Edit
			key := ""
			switch moves[i] % 8 {
			case 0:
				e, key = Edit{Kind: KindLine, ID: id,
					After: text("%q: %q, %q: %q", "name", name, "medium", "ethernet")}, "line "+id
				want[key] = modelled{name: name}
			case 1:
				e, key = Edit{Kind: KindDevice, ID: id,
					After: text("%q: %q, %q: [{%q: %q}], %q: %q", "name", name, "ports", "line", "net", "map",
						"modbus-tcp")}, "device "+id
				want[key] = modelled{name: name}
			case 2:
				parent := []string{"do11", "gate", "lss", "n1"}[moves[i+2]%4]
				e, key = Edit{Kind: KindPoint, ID: id, Parent: parent,
					After: text("%q: %q, %q: %q, %q: %q, %q: %q, %q: 1000", "name", name, "address", "hr7", "type",
						"uint16", "access", "rw", "paceMs")}, "point "+id
				want[key] = modelled{name, []string{"device " + parent}}
			case 3:
				e, key = Edit{Kind: KindCrossing, ID: id, After: text("%q: %q, %q: %q", "from", "t", "to", "g")},
					"crossing "+id
				want[key] = modelled{on: []string{"point t", "point g"}}
			case 4, 5, 6, 7:
				kind := []Kind{KindLine, KindDevice, KindPoint, KindCrossing}[moves[i]%4]
				e, key = Edit{Kind: kind, ID: id}, string(kind)+" "+id
				if kind == KindPoint {
					e.Parent = map[string]string{"o": "do11", "t": "do11", "g": "gate"}[id]
				}
				if kind == KindLine { // its ports go, the devices stay
					want.remove(key)
				}
				want.remove(key)
			}
			next, changes, err := s.Apply([]Edit{e})
			if asText(t, s) != before {
				t.Fatalf("%+v changed the site that it was applied to", e)
			}
			if err != nil {
				continue
			}
			if got := modelOf(next); !reflect.DeepEqual(got, want) {
				t.Fatalf("%+v leaves\n%v, want\n%v", e, got, want)
			}
			back, _, err := next.Apply(Invert(changes))
			if err != nil || asText(t, back) != before {
				t.Fatalf("taking %+v back leaves\n%s\nin place of\n%s (%v)", e, asText(t, back), before, err)
			}
			s = next
		}
	})
}

func text(format string, args ...any) json.RawMessage {
	return json.RawMessage("{" + fmt.Sprintf(format, args...) + "}")
}

func asText(t *testing.T, s *Site) string {
	data, err := json.Marshal(s)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}
