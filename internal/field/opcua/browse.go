package opcua

import (
	"context"
	"fmt"
	"strings"

	"github.com/gopcua/opcua/ua"

	"ferry/internal/core/address"
	family "ferry/internal/core/family/opcua"
	"ferry/internal/core/value"
	"ferry/internal/field"
)

// opened is a folder that was looked into, as far as it was.
type opened struct {
	of    address.Address
	refs  []reference
	point []byte // where the server goes on; none at the end
}

// reference is what a folder leads to.
type reference struct {
	id    *ua.NodeID
	name  string
	class ua.NodeClass
}

// Bounds of a folder, and how many references come with one message.
const (
	mostInFolder = 1_000_000
	refsAtOnce   = 1000
)

// Browse looks into a folder. Where it was left off before, it goes on.
func (c *conn) Browse(folder address.Address, from, most int) (f field.Folder, reply field.Reply) {
	ctx, done := c.asking(severalMessages)
	defer done()
	if c.folder == nil || c.folder.of != folder || from == 0 {
		id := ua.NewNumericNodeID(0, idObjectsFolder)
		if n, ok := family.NodeOf(folder); ok {
			var why string
			if id, why = c.nodeID(n); why != "" {
				return f, c.not(why)
			}
		}
		c.folder = &opened{of: folder}
		results, err := c.browse(ctx, refsAtOnce, idHierarchical, []*ua.NodeID{id})
		if err != nil {
			return f, c.came(err, "the question what is in the folder")
		}
		if code := uint32(results[0].StatusCode); code>>30 == 2 {
			return f, c.not("the server says of the folder: " + family.Words(code))
		}
		c.folder.take(results[0])
	}
	for o := c.folder; len(o.refs) < from+most+1 && len(o.point) > 0 && len(o.refs) < mostInFolder; {
		before := len(o.refs)
		more, err := c.more(ctx, true, o.point)
		if err != nil {
			return f, c.came(err, "the question what else is in the folder")
		}
		o.point = nil
		if len(more) == 1 && more[0] != nil {
			if code := uint32(more[0].StatusCode); code>>30 == 2 {
				return f, c.not("the server does not go on with the folder: " + family.Words(code))
			}
			o.take(more[0])
		}
		if len(o.refs) == before {
			break // it says that there is more, and tells nothing
		}
	}
	refs := c.folder.refs
	page := refs[min(from, len(refs)):min(from+most, len(refs))]
	f.More = from+len(page) < len(refs)
	entries, err := c.entries(ctx, page)
	if err != nil {
		return f, c.came(err, "the question what its nodes are")
	}
	f.Entries = entries
	return f, c.came(nil, "")
}

// browseOf is a question what nodes lead to by references of a kind.
func browseOf(most int, by uint32, nodes ...*ua.NodeID) *ua.BrowseRequest {
	r := &ua.BrowseRequest{View: &ua.ViewDescription{ViewID: ua.NewTwoByteNodeID(0)},
		RequestedMaxReferencesPerNode: uint32(most)}
	for _, id := range nodes {
		r.NodesToBrowse = append(r.NodesToBrowse, &ua.BrowseDescription{NodeID: id,
			BrowseDirection: ua.BrowseDirectionForward, ReferenceTypeID: ua.NewNumericNodeID(0, by), IncludeSubtypes: true,
			NodeClassMask: uint32(ua.NodeClassObject | ua.NodeClassVariable), ResultMask: uint32(ua.BrowseResultMaskAll)})
	}
	return r
}

func (o *opened) take(result *ua.BrowseResult) {
	o.point = result.ContinuationPoint
	for _, r := range result.References {
		if r == nil || r.NodeID == nil || r.NodeID.NodeID == nil || len(o.refs) >= mostInFolder {
			continue
		}
		name := "?"
		if r.BrowseName != nil {
			name = short(r.BrowseName.Name, mostName)
		}
		o.refs = append(o.refs, reference{r.NodeID.NodeID, name, r.NodeClass})
	}
}

// entries are references with what stands there.
func (c *conn) entries(ctx context.Context, page []reference) ([]field.FolderEntry, error) {
	list := make([]field.FolderEntry, len(page))
	var variables []listed
	var of []int
	for i, r := range page {
		list[i].Name = r.name
		if n, ok := c.node(r.id); ok {
			list[i].Address = n.Address()
		}
		if list[i].Holds = r.class == ua.NodeClassVariable; list[i].Holds {
			variables, of = append(variables, listed{r.id, r.name}), append(of, i)
		} else {
			list[i].Opens = true
		}
	}
	if len(variables) == 0 {
		return list, nil
	}
	leads, err := c.leads(ctx, idsOf(variables))
	if err != nil {
		return nil, err
	}
	values, err := c.attributes(ctx, variables)
	if err != nil {
		return nil, err
	}
	measures, err := c.measures(ctx, variables, func(i int) *ua.DataValue { return values[heldAttributes*i] })
	if err != nil {
		return nil, err
	}
	for k, i := range of {
		e := &list[i]
		e.Opens = leads[k]
		v := values[heldAttributes*k]
		if _, why := family.QualityOf(uint32(v.Status)); why != "" {
			e.Reason = why
		}
		e.Unit, e.Low, e.High, e.Names = measures[k].unit, measures[k].low, measures[k].high, measures[k].names
		if level, ok := values[heldAttributes*k+1].Value.Value().(byte); ok {
			e.Writable = level&2 != 0
		}
		if text, ok := values[heldAttributes*k+2].Value.Value().(*ua.LocalizedText); ok && text != nil {
			e.Remark = short(text.Text, mostRemark)
		}
		if n := v.Value.ArrayLength(); n > 0 {
			e.Holds, e.Remark = false, strings.TrimPrefix(e.Remark+"; "+arrayOf(int(n)), "; ")
			continue
		}
		if leaves, err := c.leaves(v.Value.Value()); err == nil {
			e.Holds, e.Remark = false, strings.TrimPrefix(fmt.Sprintf("%s; a structure of %d values, each of which is a place",
				e.Remark, len(leaves)), "; ")
			continue
		}
		kind := v.Value.Type()
		if v.Value.Value() == nil {
			kind = measures[k].kind
		}
		if shape, known := shapeOf(kind); known {
			e.Shape = shape
		}
		held, why := valueOf(v.Value, -1)
		if held.Kind() == value.Text {
			held = value.OfText(short(held.Text(), mostRemark))
		}
		if e.Value = held; why != "" && e.Reason == "" {
			e.Reason = why
		}
	}
	return list, nil
}

func idsOf(list []listed) (ids []*ua.NodeID) {
	for _, v := range list {
		ids = append(ids, v.id)
	}
	return ids
}
