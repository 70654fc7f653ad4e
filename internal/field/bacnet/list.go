package bacnet

import (
	"context"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"time"

	"ferry/internal/core/address"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/bacnet"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	"ferry/internal/field"
	wire "ferry/internal/wire/bacnet"
)

// Bounds of a list: how many objects are taken of one device, and for how long at a time.
const (
	mostObjects  = 200_000
	listedFor    = 2 * time.Second
	listedAtOnce = 25
)

// List tells of the objects of the device, from behind the one at a place of its list on.
func (c *conn) List(after string) (held []protocol.Held, next string, reply field.Reply) {
	reply = c.owned(func(ctx context.Context) field.Reply {
		from := 0
		if after != "" {
			from, _ = strconv.Atoi(after) // it is of this function's own making
		}
		if from == 0 || c.objects == nil {
			var reply field.Reply
			if c.objects, reply = c.objectList(ctx); !reply.OK() {
				return reply
			}
		}
		began := time.Now()
		for from < len(c.objects) && time.Since(began) < listedFor {
			n := min(len(c.objects)-from, listedAtOnce)
			told, reply := c.describe(ctx, c.objects[from:from+n])
			if !reply.OK() {
				return reply
			}
			held = append(held, told...)
			from += n
		}
		if next = strconv.Itoa(from); from >= len(c.objects) {
			next = ""
		}
		return field.Reply{Outcome: exchange.Answered}
	})
	return held, next, reply
}

// objectList reads which objects there are: at once, or one by one where the device sends no answer in parts.
func (c *conn) objectList(ctx context.Context) (list []wire.ObjectID, reply field.Reply) {
	ref := whole(wire.ID(uint16(family.Device), c.device), family.ObjectList)
	m, reply := c.ask(ctx, wire.ReadProperty, wire.AppendReadProperty(nil, ref), false)
	if reply.OK() {
		_, values, err := wire.ParseReadAnswer(m.Body, m.BodyAt)
		if err != nil {
			return nil, garbled(err)
		}
		return objectsOf(values, list), reply
	}
	if reply.Outcome != exchange.Declined && reply.Outcome != exchange.NoAnswer {
		return nil, reply
	}
	ref.Index = 0 // some say nothing where the list is too long for one message
	m, count := c.ask(ctx, wire.ReadProperty, wire.AppendReadProperty(nil, ref), false)
	if !count.OK() {
		return nil, reply // why it could not be had at once says more
	}
	_, values, err := wire.ParseReadAnswer(m.Body, m.BodyAt)
	if err != nil || len(values) != 1 || values[0].Tag != wire.TagUnsigned {
		return nil, garbled(err)
	}
	of := values[0].Uint
	if of > mostObjects {
		return nil, field.Reply{Outcome: exchange.Garbled, Left: true,
			Sentence: fmt.Sprintf("it says that it has %d objects: more than %d are not read", of, mostObjects)}
	}
	for i := int64(1); i <= int64(of); {
		var refs []wire.Reference
		for k := i; k <= int64(of) && len(refs) < c.bears()*2 && (len(refs) == 0 || !c.single); k++ {
			refs = append(refs, wire.Reference{Object: ref.Object, Property: ref.Property, Index: k})
		}
		results, is := c.several(ctx, refs)
		if !is.OK() {
			return nil, is
		}
		for k := range results {
			list = objectsOf(results[k].values, list)
		}
		i += int64(len(refs))
	}
	return list, field.Reply{Outcome: exchange.Answered}
}

func objectsOf(values []wire.Value, list []wire.ObjectID) []wire.ObjectID {
	for i := range values {
		if values[i].Tag == wire.TagObject && len(list) < mostObjects {
			list = append(list, values[i].Object)
		}
	}
	return list
}

// several reads properties that belong to no points, as far as the device bears them at once.
func (c *conn) several(ctx context.Context, refs []wire.Reference) (all []result, reply field.Reply) {
	reply = field.Reply{Outcome: exchange.Answered}
	for len(refs) > 0 {
		n := min(len(refs), 2*c.bears())
		if c.single {
			n = 1
		}
		results, is := c.properties(ctx, []sought{{refs: refs[:n]}})
		if !is.OK() {
			if is.Outcome == exchange.Declined && n > 2 && tooMuch(is.Code) {
				c.bearsLess(n / 2)
				continue
			}
			return nil, is
		}
		all, refs = append(all, results[0]...), refs[n:]
	}
	return all, reply
}

// describes are the properties that say what an object is.
func describes(t family.Type) []family.Property {
	list := []family.Property{family.ObjectName, family.Description}
	if t.Commanded() {
		list = append(list, family.RelinquishDefault) // which only those have that are commanded
	}
	switch t {
	case family.BinaryInput, family.BinaryOutput, family.BinaryValue:
		return append(list, family.InactiveText, family.ActiveText)
	case family.MultiInput, family.MultiOutput, family.MultiValue:
		return append(list, family.StateText)
	case family.CharacterValue:
		return list
	}
	return append(list, family.Units, family.MinPresValue, family.MaxPresValue, family.CovIncrement)
}

// describe asks what objects are. Those without a value are left out.
func (c *conn) describe(ctx context.Context, objects []wire.ObjectID) (held []protocol.Held, reply field.Reply) {
	var refs []wire.Reference
	for _, o := range objects {
		if t := family.Type(o.Type()); t.Holds() != "" {
			for _, p := range describes(t) {
				refs = append(refs, whole(o, p))
			}
		}
	}
	results, reply := c.several(ctx, refs)
	if !reply.OK() {
		return nil, reply
	}
	for _, o := range objects {
		t := family.Type(o.Type())
		if t.Holds() == "" {
			continue
		}
		h := protocol.Held{Shape: value.Shape{Type: t.Holds()},
			Address: family.Place{Type: t, Instance: o.Instance(), Property: family.PresentValue, Index: wire.Whole}.Address()}
		for _, p := range describes(t) {
			if r := &results[0]; r.code == 0 && len(r.values) > 0 && !r.values[0].Constructed && !r.values[0].Opaque {
				tells(&h, p, r.values)
			}
			results = results[1:]
		}
		held = append(held, h)
	}
	return held, reply
}

// tells puts what a property says into what is known of an object.
func tells(h *protocol.Held, p family.Property, values []wire.Value) {
	v := &values[0]
	number := v.Float
	switch v.Tag {
	case wire.TagUnsigned, wire.TagEnumerated:
		number = float64(v.Uint)
	case wire.TagSigned:
		number = float64(v.Int)
	}
	named := func(n int, text string) {
		if text == "" {
			return
		}
		if h.Names == nil {
			h.Names = map[int]string{}
		}
		h.Names[n] = text
	}
	bound := func(into **float64) {
		if v.Tag != wire.TagText && !math.IsNaN(number) && !math.IsInf(number, 0) && math.Abs(number) < 1e30 {
			*into = &number
		}
	}
	switch p {
	case family.RelinquishDefault:
		h.Writable = true
	case family.ObjectName:
		h.Name = v.Text
	case family.Description:
		h.Remark = v.Text
	case family.Units:
		if u := family.Unit(v.Uint); v.Tag == wire.TagEnumerated && u != family.NoUnits {
			h.Unit = u.Short()
		}
	case family.MinPresValue:
		bound(&h.Low)
	case family.MaxPresValue:
		bound(&h.High)
	case family.CovIncrement:
		h.Band = number
	case family.InactiveText:
		named(0, v.Text)
	case family.ActiveText:
		named(1, v.Text)
	case family.StateText:
		for i := range values {
			named(i+1, values[i].Text)
		}
	}
}

// Browse looks into the device, whose folders are the types of its objects, or into one of these, whose objects are
// told with what stands in them.
func (c *conn) Browse(folder address.Address, from, most int) (f field.Folder, reply field.Reply) {
	reply = c.owned(func(ctx context.Context) (reply field.Reply) {
		if c.objects == nil || folder.IsZero() && from == 0 {
			if c.objects, reply = c.objectList(ctx); !reply.OK() {
				return reply
			}
		}
		if folder.IsZero() {
			f = c.folders(from, most)
			return field.Reply{Outcome: exchange.Answered}
		}
		t, ok := family.TypeOfFolder(folder)
		if !ok {
			return field.Reply{Outcome: exchange.NotAllowed, Sentence: "there is no such folder"}
		}
		var objects []wire.ObjectID
		for _, o := range c.objects {
			if family.Type(o.Type()) == t {
				objects = append(objects, o)
			}
		}
		objects, f.More = objects[min(from, len(objects)):min(len(objects), from+most)], from+most < len(objects)
		held, reply := c.describe(ctx, objects)
		if !reply.OK() {
			return reply
		}
		wanted := make([]protocol.Wanted, len(held))
		for i := range held {
			f.Entries = append(f.Entries, field.FolderEntry{Held: held[i], Holds: true})
			wanted[i] = protocol.Wanted{ID: strconv.Itoa(i), Address: held[i].Address, Shape: held[i].Shape}
		}
		samples, reply := c.items(ctx, wanted)
		for _, s := range samples {
			if i, err := strconv.Atoi(s.ID); err == nil {
				f.Entries[i].Value, f.Entries[i].Reason = s.Value, s.Reason
			}
		}
		return reply
	})
	return f, reply
}

// folders are the types of the objects of the device that have values, with how many there are.
func (c *conn) folders(from, most int) (f field.Folder) {
	counts := map[family.Type]int{}
	for _, o := range c.objects {
		if t := family.Type(o.Type()); t.Holds() != "" {
			counts[t]++
		}
	}
	types := slices.Sorted(maps.Keys(counts))
	f.More = from+most < len(types)
	for _, t := range types[min(from, len(types)):min(len(types), from+most)] {
		f.Entries = append(f.Entries, field.FolderEntry{Opens: true,
			Held: protocol.Held{Address: family.Folder(t), Name: t.Name(), Remark: fmt.Sprintf("%d objects", counts[t])}})
	}
	return f
}
