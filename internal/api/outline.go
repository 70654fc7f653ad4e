package api

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/drawn"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// mostOutlines is how many files are held open, the latest; outlinedAtOnce how many entries come at once.
const (
	mostOutlines   = 4
	outlinedAtOnce = 300
)

// outlinesPath is where files are opened.
const outlinesPath = "/api/outlines"

// outlines are the files that people look into.
type outlines struct {
	mu   sync.Mutex
	list []*outlined // the latest last
}

// outlined is one of them.
type outlined struct {
	id, name string
	def      *protocol.Def
	is       protocol.Outline
	heads    []protocol.Outlined

	mu    sync.Mutex
	head  int // of under, -1 for none
	under []protocol.Outlined
}

// in is all that lies in a device of the file.
func (o *outlined) in(head int) []protocol.Outlined {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.head != head {
		o.head, o.under = head, o.is.Under(head)
	}
	return o.under
}

// OutlineView is a file that is open.
type OutlineView struct {
	ID     string        `json:"id"`
	Name   string        `json:"name"`
	Title  string        `json:"title"` // of the protocol
	Map    string        `json:"map"`   // and its name
	Heads  []OutlineItem `json:"heads"`
	Unread []UnreadView  `json:"unread"`
}

// OutlineItem is an entry of a file. At is its place in its device, -1 for the device itself.
type OutlineItem struct {
	Head    int    `json:"head"`
	At      int    `json:"at"`
	Name    string `json:"name"` // of a find the whole way there
	Kind    string `json:"kind"`
	Says    string `json:"says"`
	Remark  string `json:"remark"`
	Address string `json:"address"`
	Opens   bool   `json:"opens"`
}

// OutlinePart is what lies in an entry, or what was found.
type OutlinePart struct {
	Items []OutlineItem `json:"items"`
	More  int           `json:"more"` // that are not among them
}

// OutlineTake has what lies in entries become points of a device.
type OutlineTake struct {
	Device string         `json:"device"`
	Of     []OutlinePlace `json:"of"`
}

// OutlinePlace is an entry by its places.
type OutlinePlace struct {
	Head int `json:"head"`
	At   int `json:"at"`
}

func item(e *protocol.Outlined, head, at int, opens bool) OutlineItem {
	return OutlineItem{head, at, e.Name, e.Kind, e.Says, e.Remark, e.Address, opens}
}

// postOutline opens a file: that of the body, or that by which Ferry is a device.
func (s *Server) postOutline(c fiber.Ctx) error {
	data, name := c.Body(), c.Query("name")
	if id := c.Query("device"); id != "" {
		var err error
		if data, name, err = s.ownFile(id); err != nil {
			return err
		}
	}
	if len(data) > mostDrawn {
		return problem.New("too-large", fmt.Sprintf("The file has more than %d MB: a description of a device has less.",
			mostDrawn>>20), "").At(name)
	}
	def, by := protocol.DrawnBy(data)
	opens, ok := by.(protocol.Outlines)
	if !ok {
		return problem.New("not-known", "The file is no description of devices that Ferry can show as a tree.",
			"Files of whole devices and stations are known by how they begin: choose the file itself, unpacked.").At(name)
	}
	defer s.inTurn()()
	is, err := opens.Outline(slices.Clone(data))
	if err != nil {
		return problem.New("not-read", "The file cannot be read: "+err.Error()+".", "").At(name)
	}
	o := &outlined{id: newID(), name: name, def: def, is: is, heads: is.Heads(), head: -1}
	s.outlines.mu.Lock()
	s.outlines.list = append(s.outlines.list[max(0, len(s.outlines.list)-mostOutlines+1):], o)
	s.outlines.mu.Unlock()
	view := OutlineView{ID: o.id, Name: name, Title: def.Title, Map: def.Name, Heads: []OutlineItem{},
		Unread: []UnreadView{}}
	for i := range o.heads {
		view.Heads = append(view.Heads, item(&o.heads[i], i, -1, true))
	}
	for _, u := range is.Unread() {
		view.Unread = append(view.Unread, UnreadView{u.Line, u.What, u.Reason})
	}
	return c.JSON(view)
}

// ownFile is the file by which Ferry is a device.
func (s *Server) ownFile(id string) (data []byte, name string, err error) {
	now, _ := s.Store.Site()
	d := now.Device(id)
	if d == nil {
		return nil, "", problem.New("gone", "The device is no longer in the site.", "Reload to see what changed.").At(id)
	}
	for i := range d.Ports {
		def, ok := protocol.Named(d.Ports[i].Protocol)
		if !ok {
			continue
		}
		for _, set := range def.Settings {
			if kept := def.Value(d.Ports[i].Settings, set.Key).Text(); set.Kind == protocol.File && kept != "" {
				data, err := s.Vault.Get(protocol.File, kept)
				if err != nil {
					return nil, "", problem.From(err, "not-kept").At(d.Name)
				}
				return data, kept, nil
			}
		}
	}
	return nil, "", problem.New("no-file", d.Name+" names no file.", "Open one.").At(d.Name)
}

// outlined finds an open file.
func (s *Server) outlined(id string) (*outlined, error) {
	s.outlines.mu.Lock()
	defer s.outlines.mu.Unlock()
	for _, o := range s.outlines.list {
		if o.id == id {
			return o, nil
		}
	}
	return nil, problem.New("closed", fmt.Sprintf("The file is no longer open: the latest %d are.", mostOutlines),
		"Open it again.")
}

// getOutline tells of what lies in an entry, from a place in it on.
func (s *Server) getOutline(c fiber.Ctx) error {
	o, err := s.outlined(c.Params("id"))
	if err != nil {
		return err
	}
	head, at, from := fiber.Query(c, "head", 0), fiber.Query(c, "at", -1), fiber.Query(c, "from", 0)
	if head < 0 || head >= len(o.heads) {
		return problem.New("closed", "The file has no such device.", "Open it again.")
	}
	list, part := o.in(head), OutlinePart{Items: []OutlineItem{}}
	depth, n := 0, 0
	if at >= 0 && at < len(list) {
		depth = list[at].Depth + 1
	}
	for i := max(0, at+1); i < len(list) && list[i].Depth >= depth; i++ {
		if list[i].Depth > depth {
			continue
		}
		if n++; n <= from {
			continue
		}
		if len(part.Items) < outlinedAtOnce {
			part.Items = append(part.Items, item(&list[i], head, i, i+1 < len(list) && list[i+1].Depth > depth))
		} else {
			part.More++
		}
	}
	return c.JSON(part)
}

// findOutline looks for entries in which all words stand, or in what they lie in.
func (s *Server) findOutline(c fiber.Ctx) error {
	o, err := s.outlined(c.Params("id"))
	if err != nil {
		return err
	}
	defer s.inTurn()()
	words, part := strings.Fields(strings.ToLower(c.Query("words"))), OutlinePart{Items: []OutlineItem{}}
	for head := range o.heads {
		list := o.in(head)
		var way, texts []string
		for i := range list {
			e := &list[i]
			way = append(way[:min(e.Depth, len(way))], e.Name)
			own := strings.ToLower(e.Name + " " + e.Kind + " " + e.Says + " " + e.Remark + " " + e.Address)
			texts = append(texts[:len(way)-1], own)
			if !slices.ContainsFunc(words, func(w string) bool { return strings.Contains(own, w) }) {
				continue // what lies in something that was found says nothing of its own
			}
			all := strings.ToLower(o.heads[head].Name) + " " + strings.Join(texts, " ")
			if slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(all, w) }) {
				continue
			}
			if len(part.Items) >= outlinedAtOnce {
				part.More++
				continue
			}
			found := item(e, head, i, i+1 < len(list) && list[i+1].Depth > e.Depth)
			found.Name = strings.Join(way, " · ")
			if len(o.heads) > 1 {
				found.Name = o.heads[head].Name + " · " + found.Name
			}
			part.Items = append(part.Items, found)
		}
	}
	return c.JSON(part)
}

// getDifferences compares a file with another, or with what a device lists of itself.
func (s *Server) getDifferences(c fiber.Ctx) error {
	o, err := s.outlined(c.Params("id"))
	if err != nil {
		return err
	}
	if id := c.Query("with"); id != "" {
		other, err := s.outlined(id)
		if err != nil {
			return err
		}
		defer s.inTurn()()
		return c.JSON(drawn.Compare(o.is, other.is))
	}
	head := fiber.Query(c, "head", 0)
	now := s.Engine.Site()
	link := now.Link(c.Query("link"))
	switch {
	case head < 0 || head >= len(o.heads):
		return problem.New("closed", "The file has no such device.", "Open it again.")
	case link == nil:
		return problem.New("gone", "The link is no longer in the site.", "Reload to see what changed.").At(c.Query("link"))
	case link.Protocol != o.def.Name:
		return problem.New("other-kind", "The link speaks another protocol than the file is for.",
			"Choose a link of "+o.def.Title+".")
	}
	ctx, cancel := context.WithTimeout(c.Context(), namedWithin)
	defer cancel()
	held, more, err := s.Engine.Held(ctx, link.ID)
	if err != nil {
		return err
	}
	if more {
		return problem.New("too-many", "The device has more than can be listed at once.", "")
	}
	return c.JSON(drawn.ComparePlaces(o.def, o.heads[head].Name, o.is.Places(head, true), held))
}

// postOutlineTake has what lies in entries become points of a device.
func (s *Server) postOutlineTake(c fiber.Ctx) error {
	var r OutlineTake
	if err := bind(c, &r); err != nil {
		return err
	}
	o, err := s.outlined(c.Params("id"))
	if err != nil {
		return err
	}
	var chosen []protocol.Held
	for head := range o.heads {
		addresses := map[string]bool{}
		for _, place := range r.Of {
			if place.Head == head {
				o.addresses(place, addresses)
			}
		}
		if len(addresses) == 0 {
			continue
		}
		for _, h := range o.is.Places(head, false) {
			if addresses[o.def.Scheme.Short(h.Address)] {
				chosen = append(chosen, h)
			}
		}
	}
	added := 0
	seq, err := s.change(c, "made points out of "+o.name, func(now *site.Site) ([]site.Edit, error) {
		d := now.Device(r.Device)
		if d == nil {
			return nil, problem.New("gone", "The device is no longer in the site.", "Reload to see what changed.").At(r.Device)
		}
		if d.Map != o.def.Name {
			return nil, problem.New("other-kind", "The map of "+d.Name+" is for another protocol than the file.",
				"Choose a device whose map is for "+o.def.Title+".").At(d.Name)
		}
		edits := pointsOf(d, chosen, func(name string) string { return name })
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

// addresses collects those that lie in an entry.
func (o *outlined) addresses(of OutlinePlace, into map[string]bool) {
	list := o.in(of.Head)
	first, depth := max(0, of.At), -1
	if of.At >= 0 && of.At < len(list) {
		depth = list[of.At].Depth
	}
	for i := first; i < len(list) && (i == first || list[i].Depth > depth); i++ {
		if list[i].Address != "" {
			into[list[i].Address] = true
		}
	}
}
