package bacnet

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"time"

	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// Description is what lists of objects are called that buildings are engineered with.
func (rules) Description() string { return "EDE lists" }

// described are how such lists begin, or what the headings of their columns are.
var described = [][]byte{[]byte("engineering-data-exchange"), []byte("project_name"), []byte("keyname"),
	[]byte("state text reference")}

// Described reports whether a file is such a list, by how it begins.
func (rules) Described(data []byte) bool {
	head := bytes.ToLower(data[:min(len(data), 2048)])
	return slices.ContainsFunc(described, func(mark []byte) bool { return bytes.Contains(head, mark) })
}

// mostUnread bounds the rows that are told of.
const mostUnread = 1000

// Describe reads the objects of a list that have values. Where it is of several devices, they are told apart by
// the instance in front of the names.
func (rules) Describe(data []byte) (held []protocol.Held, unread []protocol.Unread, err error) {
	x, wrong, err := ReadExchange(data)
	if err != nil {
		return nil, nil, err
	}
	for _, w := range wrong[:min(len(wrong), mostUnread)] {
		u := protocol.Unread{Reason: w}
		if place, reason, ok := strings.Cut(w, ": "); ok {
			if n, _ := fmt.Sscanf(place, "line %d", &u.Line); n == 1 {
				u.Reason = reason
			}
		}
		unread = append(unread, u)
	}
	devices := map[uint32]bool{}
	for i := range x.Rows {
		devices[x.Rows[i].Device] = true
	}
	for i := range x.Rows {
		r := &x.Rows[i]
		if r.Type == Device {
			continue
		}
		if r.Type.Holds() == "" {
			if len(unread) < mostUnread {
				unread = append(unread, protocol.Unread{Line: r.Line, What: r.Name,
					Reason: fmt.Sprintf("%s has no value that a point is made of", r.Type.Name())})
			}
			continue
		}
		h := protocol.Held{Address: Place{Type: r.Type, Instance: r.Instance, Property: PresentValue,
			Index: -1}.Address(), Name: r.Name, Shape: value.Shape{Type: r.Type.Holds(), Bit: -1},
			Remark: r.Description, Writable: r.Settable && r.Type.Commanded(), Low: r.Low, High: r.High}
		if r.Unit != NoUnits {
			h.Unit = r.Unit.Short()
		}
		if h.Names = x.named(r.Texts, r.Type); len(h.Names) == 0 && r.Texts > 0 { // which is another file
			h.Remark = joined(h.Remark, fmt.Sprintf("its states are row %d of the list of state texts", r.Texts))
		}
		if len(devices) > 1 {
			h.Name = fmt.Sprintf("%d %s", r.Device, r.Name)
		}
		held = append(held, h)
	}
	return held, unread, nil
}

// DescribeOut is objects as such a list.
func (rules) DescribeOut(of protocol.Whose, held []protocol.Held, at time.Time) []byte {
	x := exchanged(of, held)
	x.Changed = at.UTC().Format(time.DateTime)
	return inMemory(x.Append(nil))
}

// Beside is what goes with such a list.
func (rules) Beside() string { return "list of state texts" }

// BesideAs is how its names end.
func (rules) BesideAs() string { return "_StateTexts.csv" }

// BesideOut is the list of state texts to which the list of the same objects refers.
func (rules) BesideOut(of protocol.Whose, held []protocol.Held) []byte {
	x := exchanged(of, held)
	return inMemory(x.AppendStates(nil))
}

func inMemory(out []byte, err error) []byte {
	if err != nil {
		panic("a table in memory: " + err.Error()) // nothing is written to but memory
	}
	return out
}

// exchanged are objects as the rows of such a list.
func exchanged(of protocol.Whose, held []protocol.Held) *Exchange {
	x := &Exchange{Project: of.Site, Version: "1", Author: "Ferry", States: map[int][]string{}}
	device := uint32(IP.Int(of.Settings, KeyDevice))
	name := IP.Value(of.Settings, KeyName).Text()
	if name == "" {
		name = of.Name
	}
	x.Rows = append(x.Rows, ExchangeRow{Key: name, Device: device, Name: name, Type: Device, Instance: device,
		Unit: NoUnits})
	for i := range held {
		h := &held[i]
		p, ok := PlaceOf(h.Address)
		if !ok || p.Property != PresentValue {
			continue
		}
		r := ExchangeRow{Key: h.Name, Device: device, Name: h.Name, Type: p.Type, Instance: p.Instance,
			Description: h.Remark, Low: h.Low, High: h.High, Settable: h.Writable && p.Type.Commanded(), Reports: true,
			Unit: NoUnits, Address: h.Source}
		if u, known := UnitCalled(h.Unit); known && h.Unit != "" {
			r.Unit = u
		}
		r.Texts = x.refer(h.Names, p.Type)
		if words := spelled(h.Names); words != "" && !strings.Contains(h.Remark, words) { // for who gets this file alone
			r.Description = joined(h.Remark, words)
		}
		x.Rows = append(x.Rows, r)
	}
	return x
}

// spelled are names of values as a description holds them.
func spelled(names map[int]string) string {
	var parts []string
	for n := -1 << 15; len(parts) < len(names) && n < 1<<16; n++ {
		if name, has := names[n]; has {
			parts = append(parts, fmt.Sprintf("%d %s", n, name))
		}
	}
	return strings.Join(parts, "; ")
}

// DescribedAs is how the names of such files end, and what they are.
func (rules) DescribedAs() (ending, media string) { return ".ede.csv", "text/csv; charset=utf-8" }
