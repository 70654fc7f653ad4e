package api

import (
	"context"
	"fmt"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/pairing"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/field"
	"ferry/internal/peer"
)

// TwinRequest asks another Ferry what it has, or has names shared with it.
type TwinRequest struct {
	At peer.Address `json:"at"`
	// How is look, likeness, table, alone or make.
	How string `json:"how" jsonschema:"enum=look,enum=likeness,enum=table,enum=alone,enum=make"`
	// Table is text, or File a file in base64: this side, the other, way, direction. For
	// alone, Table are the words that the names of the other's points have.
	Table string       `json:"table,omitempty"`
	File  string       `json:"file,omitempty"`
	Twin  pairing.Twin `json:"twin"`
	// Pairs are those that are made.
	Pairs []pairing.Pair `json:"pairs,omitempty"`
}

// TwinView is what another Ferry has, and what is proposed.
type TwinView struct {
	Site  string      `json:"site"` // name of the other's
	Host  string      `json:"host"`
	Lines []site.Line `json:"lines"` // of the other, on which it could answer
	// Near and Far count the points of both.
	Near int `json:"near"`
	Far  int `json:"far"`
	// Protocols are those in which a Ferry answers.
	Protocols []string          `json:"protocols"`
	Port      int               `json:"port"` // that is proposed
	Proposal  *pairing.Proposal `json:"proposal"`
	// List is what was made, if anything is shared in it, Device the other as a device of
	// this site, and Said what came of it.
	List   string `json:"list,omitempty"`
	Device string `json:"device,omitempty"`
	Said   string `json:"said,omitempty"`
}

// answering lists the protocols of Ethernet in which Ferry answers, the usual first.
func answering() (names []string) {
	for _, def := range protocol.All() {
		driver, _, err := field.DriverOf(def.Name)
		if err == nil && field.CanAnswer(driver) && def.Medium == site.Ethernet && !def.MapOnly {
			if def.Usual {
				names = append([]string{def.Name}, names...)
				continue
			}
			names = append(names, def.Name)
		}
	}
	return names
}

// postTwin looks at another Ferry, pairs its points with those of this one, or has
// both changed so that they share names.
func (s *Server) postTwin(c fiber.Ctx) error {
	var r TwinRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(c.Context(), 60*time.Second)
	defer cancel()
	other, err := peer.Open(ctx, r.At, field.MayDial)
	if err != nil {
		return err
	}
	there, err := other.Site(ctx)
	if err != nil {
		return err
	}
	defer s.inTurn()()
	here, _ := s.Store.Site()
	view := TwinView{Site: there.Name, Host: other.Host, Lines: []site.Line{}, Protocols: answering(),
		Proposal: &pairing.Proposal{Pairs: []pairing.Pair{}, Refused: []pairing.Refused{}}}
	for i := range there.Lines {
		if there.Lines[i].Medium == site.Ethernet {
			view.Lines = append(view.Lines, there.Lines[i])
		}
	}
	if r.Twin.Protocol == "" {
		r.Twin.Protocol = view.Protocols[0]
	}
	if def, ok := protocol.Named(r.Twin.Protocol); ok {
		if view.Port = def.Int(nil, protocol.KeyPort); view.Port < 1024 {
			view.Port += 1000 // a port that needs no permission
		}
	}
	shores, err := pairing.Twins(here, there, r.Twin.Protocol)
	if err != nil {
		return problem.From(err, "protocol")
	}
	view.Near, view.Far = len(shores.Near), len(shores.Far)
	switch r.How {
	case "likeness":
		view.Proposal = shores.ByLikeness()
	case "alone":
		view.Proposal = shores.Alone(r.Table)
	case "table":
		rows, err := tableRows(r.Table, r.File)
		if err != nil {
			return err
		}
		view.Proposal = shores.ByTable(rows, newID)
	case "make":
		if err := s.makeTwin(c, other, here, there, &r, &view); err != nil {
			return err
		}
	}
	return c.JSON(view)
}

// makeTwin changes the other first, and then this one.
func (s *Server) makeTwin(c fiber.Ctx, other *peer.Peer, here, there *site.Site, r *TwinRequest, view *TwinView) error {
	plan, err := pairing.PlanTwin(here, there, &r.Twin, r.Pairs, newID)
	if err != nil {
		return problem.New("cannot-share", "They cannot be shared so: "+problem.From(err, "twin").Error(), "")
	}
	ctx := c.Context()
	if err := other.Create(ctx, "shares names with "+here.Name, plan.There); err != nil {
		return err
	}
	served := plan.There[0].ID
	if _, err := s.change(c, "shares names with "+there.Name,
		func(*site.Site) ([]site.Edit, error) { return plan.Here, nil }); err != nil {
		return problem.New("half-made", "The other is set up, and this side could not be: "+
			problem.From(err, "twin").Error(), "Undo the last step there, and try again.").At(other.Host)
	}
	view.List, view.Device = plan.List, plan.Far
	view.Said = fmt.Sprintf("Both are set up: %d names.", len(r.Pairs))
	if err := other.Answer(ctx, served); err != nil {
		view.Said += " The other does not answer yet: " + problem.From(err, "twin").Sentence
	}
	if plan.Plant > 0 {
		view.Said += fmt.Sprintf(" %d of them write into devices there: on its plant they wait to be released there by name.",
			plan.Plant)
	}
	return nil
}
