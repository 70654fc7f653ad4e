package api

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/checkout"
	"ferry/internal/core/problem"
	"ferry/internal/core/value"
)

// getSnapshots lists what is kept, the latest first.
func (s *Server) getSnapshots(c fiber.Ctx) error {
	list, err := s.Store.Snapshots(c.Context())
	if err != nil {
		return err
	}
	return c.JSON(list)
}

// taken is what the points of a device, or of the site, read now.
func (s *Server) taken(device string) *checkout.Snapshot {
	g, stops, _, _ := s.ground()
	kept := &checkout.Snapshot{Device: device, Mode: s.mode(), Values: []checkout.Reading{}}
	for i := range stops {
		if device != "" && stops[i].Device != device {
			continue
		}
		for _, stand := range stops[i].Points {
			d, p := g.Point(stand.Point)
			live, _ := s.Engine.Hub.Point(p.ID)
			k := checkout.Reading{Point: p.ID, Name: d.Name + " · " + p.Name, Unit: p.Unit, AtMs: live.AtMs}
			if live.AtMs == 0 || live.Quality == value.Bad {
				k.Bad, k.Reason = true, cmp.Or(live.Reason, "it has not been read yet")
			} else {
				k.Value, k.Shown = live.Value, live.Shown
			}
			kept.Values = append(kept.Values, k)
		}
	}
	return kept
}

// postSnapshot keeps what the points of a device, or of the site, read now.
func (s *Server) postSnapshot(c fiber.Ctx) error {
	var asked SnapshotRequest
	if err := bind(c, &asked); err != nil {
		return err
	}
	kept := s.taken(asked.Device)
	read := 0
	for i := range kept.Values {
		if !kept.Values[i].Bad {
			read++
		}
	}
	if read == 0 {
		return problem.New("not-read", "Not one of these points is read now.", "Start the run, then keep it.")
	}
	if kept.Name = strings.TrimSpace(asked.Name); kept.Name == "" || len(kept.Name) > 200 {
		return problem.New("no-name", "A snapshot needs a name of up to 200 characters.",
			"Give it one: before the exchange of the drive.")
	}
	kept.Who = who(c)
	if err := s.Store.AddSnapshot(c.Context(), kept); err != nil {
		return err
	}
	said := fmt.Sprintf("%d values are kept as %s.", read, kept.Name)
	if bad := len(kept.Values) - read; bad > 0 {
		said = fmt.Sprintf("%d values are kept as %s; %d points could not be read.", read, kept.Name, bad)
	}
	return c.JSON(SnapshotView{ID: kept.ID, Said: said})
}

func (s *Server) snapshot(c fiber.Ctx, text string) (*checkout.Snapshot, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	var kept *checkout.Snapshot
	if err == nil {
		kept, err = s.Store.Snapshot(c.Context(), id)
	}
	if err == nil && kept == nil {
		err = problem.New("gone", "The snapshot is no longer kept.", "Reload to see which there are.")
	}
	return kept, err
}

// getCompared sets a snapshot beside another one, or beside what is read now.
func (s *Server) getCompared(c fiber.Ctx) error {
	was, err := s.snapshot(c, c.Params("id"))
	if err != nil {
		return err
	}
	is := s.taken(was.Device)
	if with := c.Query("with"); with != "" {
		if is, err = s.snapshot(c, with); err != nil {
			return err
		}
	}
	g, _, _, _ := s.ground()
	return c.JSON(ComparedView{Rows: g.Compare(was, is)})
}

// postRemoveSnapshot drops one.
func (s *Server) postRemoveSnapshot(c fiber.Ctx) error {
	kept, err := s.snapshot(c, c.Params("id"))
	if err != nil {
		return err
	}
	if err := s.Store.RemoveSnapshot(c.Context(), kept.ID); err != nil {
		return err
	}
	return c.JSON(map[string]bool{"ok": true})
}

// postWriteBack prepares the writes that put points back to what a snapshot holds: each is
// an order of its own, under the lock and the journal. Nothing is written by it.
func (s *Server) postWriteBack(c fiber.Ctx) error {
	var asked WriteBackRequest
	if err := bind(c, &asked); err != nil {
		return err
	}
	kept, err := s.snapshot(c, c.Params("id"))
	if err != nil {
		return err
	}
	g, _, _, _ := s.ground()
	held := map[string]*checkout.Reading{}
	for i := range kept.Values {
		held[kept.Values[i].Point] = &kept.Values[i]
	}
	const most = 500
	if len(asked.Points) == 0 || len(asked.Points) > most {
		return problem.New("invalid", fmt.Sprintf("1 to %d points are written back at once.", most), "Choose fewer.")
	}
	view := WriteBackView{Rows: []WriteBackRow{}}
	for _, id := range asked.Points {
		row := WriteBackRow{Point: id}
		_, p := g.Point(id)
		k := held[id]
		switch {
		case p == nil || k == nil || k.Bad:
			row.Why = "the snapshot holds no value of it"
		case k.Unit != p.Unit:
			row.Why = fmt.Sprintf("the snapshot holds it in %s", cmp.Or(k.Unit, "no unit"))
		default:
			order, err := s.Engine.PrepareValue(c.Context(), id, k.Value)
			if err != nil {
				row.Why = problem.From(err, "refused").Sentence
			} else {
				row.Order = &order
			}
		}
		view.Rows = append(view.Rows, row)
	}
	return c.JSON(view)
}
