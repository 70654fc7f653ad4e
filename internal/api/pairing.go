package api

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"slices"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/pairing"
	"ferry/internal/core/problem"
	"ferry/internal/core/site"
	"ferry/internal/files"
)

// PairingRequest asks how the points of some devices go into those of another.
type PairingRequest struct {
	From []string `json:"from"` // devices
	To   string   `json:"to"`
	// List is the list of names that is added to, whose far side is To; empty for none.
	List string `json:"list,omitempty"`
	// How is left, order, likeness, table or give: left only lists what is left over.
	How string `json:"how" jsonschema:"enum=left,enum=order,enum=likeness,enum=table,enum=give"`
	// Near and Far are where a run in order begins, Most how long it may be.
	Near string `json:"near,omitempty"`
	Far  string `json:"far,omitempty"`
	Most int    `json:"most,omitempty"`
	// Table is text, or File a file in base64.
	Table string         `json:"table,omitempty"`
	File  string         `json:"file,omitempty"`
	Give  pairing.Giving `json:"give,omitzero"`
}

// PairingView is what is left over on both shores, and what is proposed.
type PairingView struct {
	Shores   *pairing.Shores   `json:"shores"`
	Proposal *pairing.Proposal `json:"proposal"`
}

// PairRequest makes crossings of pairs, as one step.
type PairRequest struct {
	To string `json:"to"`
	// List is the list of names that they are put into; empty for none.
	List  string         `json:"list,omitempty"`
	What  string         `json:"what"`
	Pairs []pairing.Pair `json:"pairs"`
}

func (s *Server) postPairing(c fiber.Ctx) error {
	var r PairingRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	defer s.inTurn()()
	now, _ := s.Store.Site()
	shores, err := s.shores(now, &r)
	if err != nil {
		return problem.From(err, "gone")
	}
	view := PairingView{Shores: shores, Proposal: &pairing.Proposal{Pairs: []pairing.Pair{},
		Refused: []pairing.Refused{}}}
	switch r.How {
	case "order":
		view.Proposal = shores.InOrder(r.Near, r.Far, r.Most)
	case "likeness":
		view.Proposal = shores.ByLikeness()
	case "table":
		rows, err := tableRows(r.Table, r.File)
		if err != nil {
			return err
		}
		view.Proposal = shores.ByTable(rows, newID)
	case "give":
		if view.Proposal, err = shores.Give(r.Give, newID); err != nil {
			return problem.New("cannot-give", "The addresses cannot be given out: "+err.Error()+".",
				"Change the rules.")
		}
	}
	return c.JSON(view)
}

// tableRows reads a table of text, or out of a file in base64.
func tableRows(text, file string) ([][]string, error) {
	data := []byte(text)
	if file != "" {
		var err error
		if data, err = base64.StdEncoding.DecodeString(file); err != nil {
			return nil, problem.New("not-a-table", "The file did not arrive whole.", "Choose it again.")
		}
	}
	return files.ReadPlainTable(data)
}

// shores are those of a pairing, or of a list of names.
func (s *Server) shores(now *site.Site, r *PairingRequest) (*pairing.Shores, error) {
	if r.List != "" {
		return pairing.InList(now, r.List, r.From)
	}
	return pairing.Between(now, r.From, r.To)
}

// postPair makes the crossings of pairs, and the points that they need.
func (s *Server) postPair(c fiber.Ctx) error {
	var r PairRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	if len(r.Pairs) == 0 {
		return problem.New("nothing", "No pair is chosen.", "Choose what is to be paired.")
	}
	what := r.What
	if what == "" {
		what = fmt.Sprintf("paired %d points", len(r.Pairs))
	}
	seq, err := s.change(c, what, func(*site.Site) ([]site.Edit, error) {
		var edits []site.Edit
		for i := range r.Pairs {
			p := &r.Pairs[i]
			x := p.Crossing
			x.ID = newID()
			if p.New != nil {
				edits = append(edits, site.Put(site.KindPoint, p.New.ID, r.To, *p.New))
				if p.Goes == pairing.FromThere {
					x.From = p.New.ID
				} else {
					x.To = p.New.ID
				}
			}
			x.List = r.List
			after, err := json.Marshal(x)
			if err != nil {
				return nil, err
			}
			edits = append(edits, site.Edit{Kind: site.KindCrossing, ID: x.ID, After: after})
		}
		return edits, nil
	})
	if err != nil {
		return err
	}
	return c.JSON(NotedView{fmt.Sprintf("Paired: %d.", len(r.Pairs)), seq})
}

// getCrossingsFile hands out the crossings: all, or those into the devices of the
// query.
func (s *Server) getCrossingsFile(c fiber.Ctx) error {
	format := c.Params("format")
	if format != "csv" && format != "xlsx" && format != "json" {
		return &status{404, problem.New("not-found", "Crossings are handed out as csv, xlsx or json.", "").At(format)}
	}
	defer s.inTurn()()
	now, _ := s.Store.Site()
	if id := c.Query("list"); id != "" {
		l := now.List(id)
		if l == nil {
			return problem.New("gone", "The list is no longer in the site.", "Reload to see what changed.").At(id)
		}
		var b bytes.Buffer
		if err := files.WriteNames(&b, format, now, l); err != nil {
			return err
		}
		c.Set("Content-Type", mapFormats[format])
		c.Attachment(fileName(l.Name) + "." + format)
		return c.Send(b.Bytes())
	}
	list, name := now.Crossings, now.Name+" crossings"
	if to := now.Device(c.Query("to")); to != nil {
		ours := map[string]bool{}
		for i := range to.Points {
			ours[to.Points[i].ID] = true
		}
		list = slices.DeleteFunc(slices.Clone(list), func(x site.Crossing) bool { return !ours[x.To] })
		name = to.Name + " crossings"
	}
	var b bytes.Buffer
	if err := files.WriteCrossings(&b, format, now, list); err != nil {
		return err
	}
	c.Set("Content-Type", mapFormats[format])
	c.Attachment(fileName(name) + "." + format)
	return c.Send(b.Bytes())
}
