package api

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/address"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// BrowseRequest is a question what lies in a folder of a device, from a place in it on.
type BrowseRequest struct {
	Folder string `json:"folder,omitempty"` // its address; empty for the outermost
	From   int    `json:"from"`
}

// EntryView is something that lies in a folder.
type EntryView struct {
	Address  string     `json:"address"`
	Name     string     `json:"name"` // of a find the whole way there
	Opens    bool       `json:"opens"`
	Holds    bool       `json:"holds"`
	Type     value.Type `json:"type"`
	Shown    string     `json:"shown"`
	Unit     string     `json:"unit"`
	Low      *float64   `json:"low,omitempty"`
	High     *float64   `json:"high,omitempty"`
	Writable bool       `json:"writable"`
	Remark   string     `json:"remark"`
	Reason   string     `json:"reason"`
	// Mapped is set where the map of the device has it already.
	Mapped bool `json:"mapped"`
}

// FolderView is a part of what lies in a folder, or was found.
type FolderView struct {
	Entries []EntryView `json:"entries"`
	More    bool        `json:"more"`
	Said    string      `json:"said"`
}

// browsedAtOnce is how many entries of a folder come at once, foundAtOnce how many of a search.
const (
	browsedAtOnce = 300
	foundAtOnce   = 300
)

// mapped says which places the map of a device has.
func mapped(d *site.Device) map[address.Address]bool {
	has := map[address.Address]bool{}
	for i := range d.Points {
		has[d.Points[i].Address] = true
	}
	return has
}

// postBrowse looks into a folder of a device.
func (s *Server) postBrowse(c fiber.Ctx) error {
	var r BrowseRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	d, link, def, err := s.named(c)
	if err != nil {
		return err
	}
	var folder address.Address
	if r.Folder != "" {
		if folder, err = def.Scheme.Parse(r.Folder, ""); err != nil {
			return problem.New("address", "The folder cannot be read: "+err.Error()+".", "Open it anew.").At(r.Folder)
		}
	}
	ctx, cancel := context.WithTimeout(c.Context(), 60*time.Second)
	defer cancel()
	f, err := s.Engine.Browse(ctx, link.ID, folder, max(0, r.From), browsedAtOnce)
	if err != nil {
		return err
	}
	has, v := mapped(d), FolderView{Entries: []EntryView{}, More: f.More}
	for i := range f.Entries {
		e := &f.Entries[i]
		one := entryOf(def, &e.Held, has)
		one.Opens, one.Holds, one.Reason = e.Opens, e.Holds, e.Reason
		if !e.Value.IsNone() {
			one.Shown = e.Value.String()
			if name := e.Names[int(e.Value.Int())]; name != "" && !e.Shape.Type.IsText() && !e.Shape.Type.IsFloat() {
				one.Shown += ", " + name
			}
		}
		v.Entries = append(v.Entries, one)
	}
	return c.JSON(v)
}

func entryOf(def *protocol.Def, h *protocol.Held, has map[address.Address]bool) EntryView {
	return EntryView{Address: def.Scheme.Short(h.Address), Name: h.Name, Type: h.Shape.Type, Unit: h.Unit, Low: h.Low,
		High: h.High, Writable: h.Writable, Remark: h.Remark, Mapped: has[h.Address]}
}

// heldNow remembers what devices list of themselves, for a while: a search asks for all of it.
type heldNow struct {
	mu    sync.Mutex
	lists map[string]heldOf // by link
}

type heldOf struct {
	at   time.Time
	held []protocol.Held
	more bool
}

// heldFor is for how long a list is not asked for again, mostLists how many are remembered.
const (
	heldFor   = time.Minute
	mostLists = 4
)

func (s *Server) heldBy(ctx context.Context, link string) (heldOf, error) {
	k := &s.heldNow
	k.mu.Lock()
	of, known := k.lists[link]
	k.mu.Unlock()
	if known && time.Since(of.at) < heldFor {
		return of, nil
	}
	held, more, err := s.Engine.Held(ctx, link)
	if err != nil {
		return heldOf{}, err
	}
	of = heldOf{time.Now(), held, more}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.lists == nil || len(k.lists) >= mostLists {
		k.lists = map[string]heldOf{}
	}
	k.lists[link] = of
	return of, nil
}

// FindRequest is a question for places of a device by words of their names.
type FindRequest struct {
	Words string `json:"words"`
}

// postFind looks for places of a device by words of their names.
func (s *Server) postFind(c fiber.Ctx) error {
	var r FindRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	d, link, def, err := s.named(c)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(c.Context(), namedWithin)
	defer cancel()
	all, err := s.heldBy(ctx, link.ID)
	if err != nil {
		return err
	}
	words := strings.Fields(strings.ToLower(r.Words))
	has, v, n := mapped(d), FolderView{Entries: []EntryView{}}, 0
	for i := range all.held {
		h := &all.held[i]
		name := strings.ToLower(h.Name + " " + h.Remark)
		if slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(name, w) }) {
			continue
		}
		if n++; n <= foundAtOnce {
			one := entryOf(def, h, has)
			one.Holds = true
			v.Entries = append(v.Entries, one)
		}
	}
	v.Said = fmt.Sprintf("%d of %d nodes.", n, len(all.held))
	if v.More = n > foundAtOnce; v.More {
		v.Said = fmt.Sprintf("%d of %d nodes; the first %d are shown.", n, len(all.held), foundAtOnce)
	}
	if all.more {
		v.Said += " The device has more than were looked at."
	}
	return c.JSON(v)
}

// NodesRequest is places that are to become points, and how these are called.
type NodesRequest struct {
	// Nodes are places by their addresses with the way there, Folders ways of which all that lies
	// below is meant.
	Nodes   []TakenNode `json:"nodes"`
	Folders []string    `json:"folders"`
	// Prefix goes before each name, Separator between its parts, and Parts is how many of them are
	// kept, from the last on; 0 for all.
	Prefix    string `json:"prefix,omitempty"`
	Separator string `json:"separator,omitempty"`
	Parts     int    `json:"parts"`
}

// TakenNode is one of the places.
type TakenNode struct {
	Address string `json:"address"`
	Way     string `json:"way"`
}

// called is the name of a point by the way to its place.
func (r *NodesRequest) called(way string) string {
	parts := strings.Split(way, ".")
	if r.Parts > 0 && len(parts) > r.Parts {
		parts = parts[len(parts)-r.Parts:]
	}
	return r.Prefix + strings.Join(parts, r.Separator)
}

// postNodes makes points of places that were chosen.
func (s *Server) postNodes(c fiber.Ctx) error {
	var r NodesRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	_, link, def, err := s.named(c)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(c.Context(), namedWithin)
	defer cancel()
	held, err := s.nodesOf(ctx, link, def, &r)
	if err != nil {
		return err
	}
	added := 0
	seq, err := s.change(c, "made points of nodes", func(now *site.Site) ([]site.Edit, error) {
		d := now.Device(c.Params("id"))
		if d == nil {
			return nil, problem.New("gone", "The device is no longer in the site.",
				"Reload to see what changed.").At(c.Params("id"))
		}
		edits := pointsOf(d, held, r.called)
		if added = len(edits); added == 0 {
			return nil, problem.New("nothing-new",
				"Nothing of it holds a value of a type that Ferry has and is not in the map yet.",
				"Choose others.")
		}
		return edits, nil
	})
	if err != nil {
		return err
	}
	return c.JSON(NotedView{addedWords(added), seq})
}

// addedWords says how many points were added to a map.
func addedWords(n int) string {
	if n == 1 {
		return "1 point was added to the map."
	}
	return fmt.Sprintf("%d points were added to the map.", n)
}

// nodesOf are the places of a request, with their types.
func (s *Server) nodesOf(ctx context.Context, link *site.Link, def *protocol.Def,
	r *NodesRequest) (held []protocol.Held,
	err error) {
	var ask []address.Address
	for _, n := range r.Nodes {
		at, err := def.Scheme.Parse(n.Address, "")
		if err != nil {
			return nil, problem.New("address", "A node cannot be read: "+err.Error()+".", "Choose it anew.").At(n.Address)
		}
		ask = append(ask, at)
	}
	if len(ask) > 0 {
		looked, err := s.Engine.Look(ctx, link.ID, ask)
		if err != nil {
			return nil, err
		}
		for i, l := range looked {
			if l.Presence == protocol.Here {
				held = append(held, protocol.Held{Address: l.Address, Name: r.Nodes[i].Way,
					Shape: value.Shape{Type: l.Type}, Writable: l.Writable})
			}
		}
	}
	if len(r.Folders) == 0 && len(held) == 0 {
		return held, nil
	}
	all, err := s.heldBy(ctx, link.ID) // which says more of each than a look
	if err != nil {
		if len(r.Folders) > 0 {
			return nil, err
		}
		return held, nil
	}
	known := map[address.Address]*protocol.Held{}
	for i := range all.held {
		h := &all.held[i]
		known[h.Address] = h
		if slices.ContainsFunc(r.Folders, func(way string) bool {
			return strings.HasPrefix(h.Name, way+".") || strings.HasPrefix(h.Name, way+"[") // or an array
		}) {
			held = append(held, *h)
		}
	}
	for i := range held {
		if h := known[held[i].Address]; h != nil {
			name := held[i].Name
			held[i] = *h
			held[i].Name = name
		}
	}
	return held, nil
}

// pointsOf are edits that put places into the map of a device that are not there yet.
func pointsOf(d *site.Device, held []protocol.Held, called func(string) string) (edits []site.Edit) {
	names, has := map[string]bool{}, mapped(d)
	for i := range d.Points {
		names[d.Points[i].Name] = true
	}
	for i := range held {
		h := &held[i]
		if h.Shape.Type == "" || has[h.Address] {
			continue
		}
		point := site.PointOf(h)
		point.ID, point.Name, point.PaceMs = newID(), called(h.Name), namedPace
		first := point.Name
		for n := 2; names[point.Name]; n++ {
			point.Name = fmt.Sprintf("%s %d", first, n)
		}
		names[point.Name], has[h.Address] = true, true
		edits = append(edits, site.Put(site.KindPoint, point.ID, d.ID, point))
	}
	return edits
}
