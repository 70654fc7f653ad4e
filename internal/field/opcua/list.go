package opcua

import (
	"context"
	"fmt"
	"slices"
	"unicode/utf8"

	"github.com/gopcua/opcua/ua"

	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
	"ferry/internal/field"
)

// walk goes through the model of a server, folder by folder.
type walk struct {
	open []listed // folders that were not looked into
	last []listed // variables that were not, of which few hold others
	// found are variables that were not told of yet.
	found []listed
	seen  map[string]bool
	held  int
	page  int
}

// listed is a node with its name from the root on.
type listed struct {
	id   *ua.NodeID
	name string
}

// Bounds of a listing, and how many folders go into one message.
const (
	mostListed  = 100_000
	mostSeen    = 400_000
	foldersIn   = 50
	variablesIn = 1000
)

// Bounds of what a server says of a node, in octets: its name, the names on the way there, what is
// said of it, and its unit. A longer way is not gone.
const (
	mostName   = 200
	mostWay    = 1000
	mostRemark = 1000
	mostUnit   = 40
)

// short is a text of at most so many octets, of whole characters.
func short(text string, most int) string {
	if len(text) <= most {
		return text
	}
	most -= len("…")
	for most > 0 && !utf8.RuneStart(text[most]) {
		most--
	}
	return text[:most] + "…"
}

// List looks into some folders of the model, and tells of the variables in them.
func (c *conn) List(after string) (held []protocol.Held, next string, reply field.Reply) {
	ctx, done := c.asking(severalMessages)
	defer done()
	if after != "" && c.walk == nil {
		return nil, "", field.Reply{Outcome: exchange.Closed, Sentence: "the session in which it was listed has ended"}
	}
	if after == "" {
		c.walk = &walk{open: []listed{{ua.NewNumericNodeID(0, idObjectsFolder), ""}}, seen: map[string]bool{}}
	}
	w := c.walk
	if len(w.found) == 0 {
		if err := c.goOn(ctx, w); err != nil {
			return nil, "", c.came(err, "the question what is in its folders")
		}
	}
	now := w.found[:min(len(w.found), variablesIn)]
	w.found = w.found[len(now):]
	held, err := c.described(ctx, now)
	if err != nil {
		return nil, "", c.came(err, "the question what its nodes are")
	}
	if w.held += len(held); len(w.open)+len(w.last)+len(w.found) > 0 && w.held < mostListed {
		w.page++ // a page may bring nothing new, and is another nevertheless
		next = fmt.Sprint(w.page)
	} else {
		c.walk = nil
	}
	return held, next, c.came(nil, "")
}

// goOn looks into some folders, or at what belongs to variables.
func (c *conn) goOn(ctx context.Context, w *walk) error {
	now := w.open[:min(len(w.open), foldersIn)]
	if w.open = w.open[len(now):]; len(now) == 0 {
		now = w.last[:min(len(w.last), variablesIn)]
		w.last = w.last[len(now):]
	}
	found, err := c.inside(ctx, now)
	if err != nil {
		return err
	}
	for _, f := range found {
		key := f.id.String()
		itself := f.id.Namespace() == 0 && f.id.IntID() == idServer // what it says of itself is nobody's point
		if itself || f.describes || w.seen[key] || len(w.seen) >= mostSeen {
			continue
		}
		w.seen[key] = true
		if f.variable {
			w.found = append(w.found, f.listed)
		}
		switch { // what belongs to a variable is looked at too, but not of OPC UA itself
		case !f.variable:
			w.open = append(w.open, f.listed)
		case f.id.Namespace() != 0:
			w.last = append(w.last, f.listed)
		}
	}
	return nil
}

// found is a node that a folder leads to.
type found struct {
	listed
	variable bool
	// describes is set for what OPC UA itself knows by its name, as a property: a unit, a range.
	describes bool
}

// inside lists what folders lead to, all of it.
func (c *conn) inside(ctx context.Context, folders []listed) (list []found, err error) {
	ids := idsOf(folders)
	results, err := c.browse(ctx, refsAtOnce, idHierarchical, ids)
	if err != nil {
		return nil, err
	}
	for i, result := range results {
		if result.StatusCode == ua.StatusBadNoContinuationPoints { // those before it have been gone through now
			again, err := c.browse(ctx, refsAtOnce, idHierarchical, ids[i:i+1])
			if err != nil {
				return nil, err
			}
			result = again[0]
		}
		for rounds := 0; result != nil; rounds++ {
			for _, r := range result.References {
				if r == nil || r.NodeID == nil || r.NodeID.NodeID == nil {
					continue
				}
				name, standard := "?", false
				if r.BrowseName != nil {
					name, standard = short(r.BrowseName.Name, mostName), r.BrowseName.NamespaceIndex == 0
				}
				property := r.ReferenceTypeID != nil && r.ReferenceTypeID.Namespace() == 0 &&
					r.ReferenceTypeID.IntID() == idHasProperty
				if folders[i].name != "" {
					name = folders[i].name + "." + name
				}
				if len(name) > mostWay {
					continue
				}
				list = append(list, found{listed{r.NodeID.NodeID, name}, r.NodeClass == ua.NodeClassVariable,
					property && standard})
			}
			if len(result.ContinuationPoint) == 0 || len(list) >= mostListed || rounds > mostListed/100 {
				break
			}
			more, err := c.more(ctx, true, result.ContinuationPoint)
			if err != nil {
				return nil, err
			}
			if len(more) == 0 {
				break
			}
			result = more[0]
		}
	}
	return list, nil
}

// described says of variables what they hold and whether they can be written, as many to a
// message as the settings say.
func (c *conn) described(ctx context.Context, variables []listed) (held []protocol.Held, err error) {
	const each = heldAttributes
	for some := range slices.Chunk(variables, max(1, c.limits.reads/each)) {
		values, err := c.attributes(ctx, some)
		if err != nil {
			return nil, err
		}
		measures, err := c.measures(ctx, some, func(i int) *ua.DataValue { return values[each*i] })
		if err != nil {
			return nil, err
		}
		for i, v := range some {
			if list, ok := c.heldOf(v, values[each*i:each*i+each], &measures[i]); ok {
				held = append(held, list...)
			}
		}
	}
	return held, nil
}

// heldAttributes is how many attributes are read of each variable.
const heldAttributes = 3

// attributes reads of each variable its value, who may access it, and what is said of it.
func (c *conn) attributes(ctx context.Context, variables []listed) (values []*ua.DataValue, err error) {
	for some := range slices.Chunk(variables, max(1, c.limits.reads/heldAttributes)) {
		var list []*ua.ReadValueID
		for _, v := range some {
			for _, attribute := range []ua.AttributeID{ua.AttributeIDValue, ua.AttributeIDUserAccessLevel,
				ua.AttributeIDDescription} {
				list = append(list, &ua.ReadValueID{NodeID: v.id, AttributeID: attribute})
			}
		}
		more, err := c.read(ctx, list)
		if err != nil {
			return nil, err
		}
		values = append(values, more...)
	}
	return values, nil
}

// arrayOf says that a node holds several values.
func arrayOf(n int) string {
	if n == 1 {
		return "an array of one value, which is a place"
	}
	return fmt.Sprintf("an array of %d values, each of which is a place", n)
}

// heldOf is a variable as a place; an array is one for each of its elements.
func (c *conn) heldOf(v listed, values []*ua.DataValue, m *measure) (list []protocol.Held, ok bool) {
	n, ok := c.node(v.id)
	if list, ok := c.parts(v, n, values[0].Value.Value()); ok {
		return list, true
	}
	shape, known := shapeOf(values[0].Value.Type())
	if !ok || !known && values[0].Value.Value() != nil {
		return nil, false
	}
	if values[0].Value.Value() == nil {
		shape, _ = shapeOf(m.kind)
	}
	h := protocol.Held{Address: n.Address(), Name: v.name, Shape: shape, Unit: m.unit, Low: m.low, High: m.high,
		Names: m.names}
	if level, ok := values[1].Value.Value().(byte); ok {
		h.Writable = level&2 != 0
	}
	if text, ok := values[2].Value.Value().(*ua.LocalizedText); ok && text != nil {
		h.Remark = short(text.Text, mostRemark)
	}
	count := int(values[0].Value.ArrayLength())
	if count <= 0 {
		return []protocol.Held{h}, true
	}
	for i := range min(count, mostElements) {
		one := h
		n.Element = i
		one.Address, one.Name = n.Address(), fmt.Sprintf("%s[%d]", h.Name, i)
		list = append(list, one)
	}
	return list, true
}
