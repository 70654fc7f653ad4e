package api

import (
	"cmp"
	"context"
	"encoding/csv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/address"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
)

// heldColumns are what a device may say of its places.
var heldColumns = []regmap.Column{regmap.Name, regmap.Address, regmap.Type, regmap.Unit, regmap.Access, regmap.Remark}

// postHeld asks a device which places it has, and gives them as a table for the
// intake. Nothing changes by it.
func (s *Server) postHeld(c fiber.Ctx) error {
	now, _ := s.Store.Site()
	d, def, err := mappedDevice(now, c.Params("id"), c.Query("map"))
	if err != nil {
		return err
	}
	link := now.LinkIn(d.ID, def.Name)
	if link == nil {
		return problem.New("no-link", "Nothing asks the device in the protocol of this map.",
			"Draw a link to it on the page of lines.").At(d.Name)
	}
	ctx, cancel := context.WithTimeout(c.Context(), 60*time.Second)
	defer cancel()
	held, more, err := s.Engine.Held(ctx, link.ID)
	if err != nil {
		return err
	}
	view := HeldView{Count: len(held), More: more}
	if view.Text, err = heldTable(def.Scheme, held); err != nil {
		return err
	}
	return c.JSON(view)
}

// heldTable has the columns of which the device says something: an intake leaves
// alone what a list has no column for.
func heldTable(scheme address.Scheme, held []protocol.Held) (string, error) {
	rows := make([][]string, len(held))
	told := make([]bool, len(heldColumns))
	for i := range held {
		h := &held[i]
		p := site.Point{Name: cmp.Or(h.Name, scheme.Short(h.Address)), Address: h.Address, Type: h.Shape.Type,
			Length: h.Shape.Length, Order: h.Shape.Order, Charset: h.Shape.Charset, Padding: h.Shape.Padding,
			Unit: h.Unit, Remark: h.Remark, Access: site.ReadOnly}
		if h.Writable {
			p.Access = site.ReadWrite
		}
		rows[i] = cellsOf(scheme, &p, heldColumns)
		for k, cell := range rows[i] {
			told[k] = told[k] || cell != ""
		}
	}
	var text strings.Builder
	out := csv.NewWriter(&text)
	write := func(cell func(k int) string) error {
		var record []string
		for k := range heldColumns {
			if told[k] {
				record = append(record, cell(k))
			}
		}
		return out.Write(record)
	}
	if err := write(func(k int) string { return string(heldColumns[k]) }); err != nil {
		return "", err
	}
	for _, row := range rows {
		if err := write(func(k int) string { return row[k] }); err != nil {
			return "", err
		}
	}
	out.Flush()
	return text.String(), out.Error()
}
