package api

import (
	"encoding/json"
	"fmt"
	"hash/fnv"
	"slices"

	"github.com/gofiber/fiber/v3"
)

// SiteDelta is what changed of a site view since one that the window has: of each
// long list the members that are new or others, and the order of all of them
// where that changed too.
type SiteDelta struct {
	// Rev names the view; Partial is set where this is what changed since Since.
	Rev     string `json:"rev"`
	Partial bool   `json:"partial"`
	// Rest is the view without its long lists.
	Rest  json.RawMessage        `json:"rest"`
	Lists map[string]ListOfDelta `json:"lists"`
}

// ListOfDelta is what changed of one list.
type ListOfDelta struct {
	Changed []json.RawMessage `json:"changed"`
	// IDs are those of all members in their order; null where they are as they were.
	IDs []string `json:"ids"`
}

// keptViews is how many views are remembered to tell what changed since.
const keptViews = 12

// viewPrint is what is remembered of a view: the print of each member, and the
// ids of each list.
type viewPrint struct {
	rev     string
	members map[string]uint64
	ids     map[string][]string
}

// sendSite sends a view, or what changed since the one that the window has.
func (s *Server) sendSite(c fiber.Ctx, view *SiteView) error {
	lists := map[string][]json.RawMessage{}
	print := viewPrint{members: map[string]uint64{}, ids: map[string][]string{}}
	h := fnv.New64a()
	put := func(list, id string, member any) error {
		data, err := json.Marshal(member)
		if err != nil {
			return err
		}
		h.Reset()
		_, _ = h.Write(data)
		lists[list] = append(lists[list], data)
		print.members[list+"/"+id] = h.Sum64()
		print.ids[list] = append(print.ids[list], id)
		return nil
	}
	var err error
	each := func(list string, n int, member func(i int) (string, any)) {
		print.ids[list], lists[list] = []string{}, []json.RawMessage{}
		for i := range n {
			if id, m := member(i); err == nil {
				err = put(list, id, m)
			}
		}
	}
	each("devices", len(view.Devices), func(i int) (string, any) { return view.Devices[i].ID, &view.Devices[i] })
	each("links", len(view.Links), func(i int) (string, any) { return view.Links[i].ID, &view.Links[i] })
	each("routes", len(view.Routes), func(i int) (string, any) { return view.Routes[i].Link, &view.Routes[i] })
	each("load", len(view.Load), func(i int) (string, any) { return view.Load[i].Link, &view.Load[i] })
	each("standIns", len(view.StandIns),
		func(i int) (string, any) { return view.StandIns[i].Device, &view.StandIns[i] })
	each("crossings", len(view.Crossings),
		func(i int) (string, any) { return view.Crossings[i].ID, &view.Crossings[i] })
	if err != nil {
		return err
	}
	rest := *view
	rest.Devices, rest.Links, rest.Routes, rest.Load, rest.StandIns, rest.Crossings = nil, nil, nil, nil, nil, nil
	out := SiteDelta{Lists: map[string]ListOfDelta{}}
	if out.Rest, err = json.Marshal(&rest); err != nil {
		return err
	}
	old := s.viewOf(c.Query("since"))
	out.Partial = old != nil
	for list, members := range lists {
		d := ListOfDelta{Changed: []json.RawMessage{}}
		for i, id := range print.ids[list] {
			key := list + "/" + id
			if was, had := uint64(0), false; old != nil {
				if was, had = old.members[key]; had && was == print.members[key] {
					continue
				}
			}
			d.Changed = append(d.Changed, members[i])
		}
		if old == nil || !slices.Equal(old.ids[list], print.ids[list]) {
			d.IDs = print.ids[list]
		}
		out.Lists[list] = d
	}
	out.Rev = s.keepView(print)
	return c.JSON(out)
}

// viewOf finds a view that is still remembered.
func (s *Server) viewOf(rev string) *viewPrint {
	if rev == "" {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := range s.views {
		if s.views[i].rev == rev {
			return &s.views[i]
		}
	}
	return nil
}

// keepView remembers a view, and returns its name: that of an equal one that is
// remembered already.
func (s *Server) keepView(print viewPrint) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := range s.views {
		if len(s.views[i].members) != len(print.members) {
			continue
		}
		same := true
		for key, sum := range print.members {
			if other, ok := s.views[i].members[key]; !ok || other != sum {
				same = false
				break
			}
		}
		if same && slices.Equal(s.views[i].ids["devices"], print.ids["devices"]) &&
			slices.Equal(s.views[i].ids["links"], print.ids["links"]) {
			return s.views[i].rev
		}
	}
	s.viewNo++
	print.rev = fmt.Sprintf("%d-%d", s.started, s.viewNo)
	s.views = append(s.views, print)
	if len(s.views) > keptViews {
		s.views = slices.Delete(s.views, 0, len(s.views)-keptViews)
	}
	return print.rev
}
