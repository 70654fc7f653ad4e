package api

import (
	"context"
	"fmt"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/address"
	"ferry/internal/core/pairing"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// NamedRequest is a column of names that are to be proved at a device.
type NamedRequest struct {
	Text string            `json:"text"`
	Rule pairing.SpellRule `json:"rule"`
	// All asks for what the device has beside them, and what it says of each.
	All bool `json:"all,omitempty"`
}

// NamedView is what became of them.
type NamedView struct {
	Proofs []pairing.NameProof `json:"proofs"`
	Aside  string              `json:"aside"`
	// Counts says how many have each verdict, TookMs how long it took.
	Counts map[pairing.Verdict]int `json:"counts"`
	TookMs int64                   `json:"tookMs"`
	// Unlisted says why it was not looked under which other case names are there.
	Unlisted string `json:"unlisted"`
	// Beside are places that the device has and the list has not, the first of so many.
	Beside     []pairing.NameProof `json:"beside"`
	BesideMany int                 `json:"besideMany"`
}

// NamedStartView is with what a column of names of a device begins.
type NamedStartView struct {
	Before string `json:"before"`
	// Can is set where the device can be asked for names.
	Can bool `json:"can"`
}

// named finds the device, its link and protocol of a request about names.
func (s *Server) named(c fiber.Ctx) (*site.Device, *site.Link, *protocol.Def, error) {
	now := s.Engine.Site()
	d := now.Device(c.Params("id"))
	if d == nil {
		return nil, nil, nil, problem.New("gone", "The device is no longer in the site.",
			"Reload to see what changed.").At(c.Params("id"))
	}
	for i := range now.Links {
		if l := &now.Links[i]; l.Answering == d.ID {
			def, _ := protocol.Named(l.Protocol)
			if _, ok := def.Before(nil); ok {
				return d, l, def, nil
			}
		}
	}
	return nil, nil, nil, problem.New("cannot-look", "No link asks "+d.Name+" in a protocol that has names.",
		"Add a link to it.").At(d.ID)
}

// getNamed says with what a column of names begins.
func (s *Server) getNamed(c fiber.Ctx) error {
	d, _, def, err := s.named(c)
	if err != nil {
		return c.JSON(NamedStartView{})
	}
	known := make([]address.Address, len(d.Points))
	for i := range d.Points {
		known[i] = d.Points[i].Address
	}
	before, _ := def.Before(known)
	return c.JSON(NamedStartView{Before: before, Can: true})
}

// namedWithin bounds how long names are looked for.
const namedWithin = 2 * time.Minute

// postNamed proves a column of names at a device.
func (s *Server) postNamed(c fiber.Ctx) error {
	var r NamedRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	v, err := s.proveNames(c, &r)
	if err != nil {
		return err
	}
	return c.JSON(v)
}

func (s *Server) proveNames(c fiber.Ctx, r *NamedRequest) (v NamedView, err error) {
	_, link, def, err := s.named(c)
	if err != nil {
		return v, err
	}
	began := time.Now()
	ctx, cancel := context.WithTimeout(c.Context(), namedWithin)
	defer cancel()
	names, aside := pairing.ReadNames(r.Text, r.Rule, def.Scheme)
	if files, ok := def.Describes(); ok && files.Described([]byte(r.Text)) {
		if names, aside, err = describedNames(files, def, r.Text); err != nil {
			return v, err
		}
	}
	if len(names) == 0 {
		return v, problem.New("no-names", "There is no name in it.", "Paste a column of names, one to a line.").At("text")
	}
	looked := make([]protocol.Looked, len(names))
	var ask []address.Address
	var of []int
	for i := range names {
		if names[i].Why == "" {
			ask, of = append(ask, names[i].Address), append(of, i)
		}
	}
	came, err := s.Engine.Look(ctx, link.ID, ask)
	if err != nil {
		return v, err
	}
	for k, i := range of {
		looked[i] = came[k]
	}
	v = NamedView{Aside: aside, Counts: map[pairing.Verdict]int{}, Beside: []pairing.NameProof{}}
	var held []protocol.Held
	if r.All || pairing.Lacks(looked) {
		var more bool
		if held, more, err = s.Engine.Held(ctx, link.ID); err != nil {
			v.Unlisted = "Whether names are there under another case is not known: " + problem.From(err, "list").Error()
		} else if more {
			v.Unlisted = "The device has more names than were looked at: some may be there under another case."
		}
	}
	v.Proofs = pairing.ProveNames(def.Scheme, names, looked, held)
	for i := range v.Proofs {
		v.Counts[v.Proofs[i].Verdict]++
	}
	if r.All {
		v.Beside = append(v.Beside, pairing.BesideNames(def.Scheme, names, held)...)
		v.BesideMany = len(v.Beside)
		v.Beside = v.Beside[:min(len(v.Beside), mostBeside)]
	}
	v.TookMs = time.Since(began).Milliseconds()
	return v, nil
}

// mostBeside is how many places that a list has not are told of.
const mostBeside = 5000

// postNamedPoints makes points of the names of a column that are there, and not in the map yet.
func (s *Server) postNamedPoints(c fiber.Ctx) error {
	var r NamedRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	v, err := s.proveNames(c, &r)
	if err != nil {
		return err
	}
	added := 0
	seq, err := s.change(c, "made points of names", func(now *site.Site) ([]site.Edit, error) {
		added = 0
		d := now.Device(c.Params("id"))
		if d == nil {
			return nil, problem.New("gone", "The device is no longer in the site.",
				"Reload to see what changed.").At(c.Params("id"))
		}
		var held []protocol.Held
		for i := range v.Proofs {
			if p := &v.Proofs[i]; p.Verdict == pairing.There || p.Verdict == pairing.Unlike {
				held = append(held, protocol.Held{Address: p.Address, Name: p.Text, Shape: value.Shape{Type: p.Type},
					Writable: p.Writable})
			}
		}
		edits := pointsOf(d, held, func(name string) string { return name })
		added = len(edits)
		if added == 0 {
			return nil, problem.New("nothing-new", "None of these names is there and not in the map yet.", "")
		}
		return edits, nil
	})
	if err != nil {
		return err
	}
	return c.JSON(NotedView{addedWords(added), seq})
}

// namedPace is that of points that were made of names, in milliseconds.
const namedPace = 1000

// describedNames are the places that a file says a device has.
func describedNames(files protocol.Describes, def *protocol.Def, text string) (names []pairing.Named, aside string,
	err error) {
	held, unread, err := files.Describe([]byte(text))
	if err != nil {
		return nil, "", problem.New("unreadable", "The file cannot be read: "+err.Error()+".",
			"Have it written anew, or paste the names.").At("text")
	}
	for i := range held {
		if len(names) < pairing.MostNamed {
			names = append(names, pairing.Named{Line: i + 1, Text: def.Scheme.Short(held[i].Address), Address: held[i].Address,
				Type: held[i].Shape.Type, Says: &held[i]})
		}
	}
	if len(unread) > 0 {
		aside = fmt.Sprintf("%d nodes of the file were left out, the first in line %d: %s.", len(unread), unread[0].Line,
			unread[0].Reason)
	}
	return names, aside, nil
}

// getDescription hands out what a device has, as a file that its protocol has for that.
func (s *Server) getDescription(c fiber.Ctx) error {
	now := s.Engine.Site()
	d := now.Device(c.Params("id"))
	if d == nil {
		return problem.New("gone", "The device is no longer in the site.", "Reload to see what changed.").At(c.Params("id"))
	}
	def, _ := protocol.Named(d.Map)
	files, ok := def.DescribesOut()
	if !ok {
		return problem.New("not-found", "There are no files for the places of such a device.", "Hand out its map.").At(d.ID)
	}
	sources := sourcesOf(now)
	var held []protocol.Held
	for i := range d.Points {
		h := d.Points[i].Held()
		h.Source = sources[d.Points[i].ID]
		held = append(held, h)
	}
	end := protocol.Whose{Site: now.Name, Name: d.Name}
	for i := range d.Ports {
		if d.Ports[i].Protocol == def.Name {
			end.Settings = d.Ports[i].Settings
		}
	}
	ending, media := files.DescribedAs()
	if with, ok := files.(protocol.DescribesBeside); ok && c.Query("part") == "beside" {
		c.Set("Content-Type", media)
		c.Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", asKept(d.Name)+with.BesideAs()))
		return c.Send(with.BesideOut(end, held))
	}
	c.Set("Content-Type", media)
	c.Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", asKept(d.Name)+ending))
	return c.Send(files.DescribeOut(end, held, time.Now()))
}

// sourcesOf says of each point into which crossings carry where its value is at the device that it comes from.
func sourcesOf(s *site.Site) map[string]string {
	at := map[string]string{}
	for i := range s.Devices {
		d := &s.Devices[i]
		for k := range d.Points {
			p := &d.Points[k]
			if scheme, err := d.SchemeOf(p); err == nil && !p.Address.IsZero() {
				at[p.ID] = d.Name + " " + scheme.Short(p.Address)
			}
		}
	}
	sources := map[string]string{}
	for i := range s.Crossings {
		if x := &s.Crossings[i]; x.From != "" {
			sources[x.To] = at[x.From]
		}
	}
	return sources
}
