package api

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/checkout"
	"ferry/internal/core/handover"
	"ferry/internal/core/problem"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
	"ferry/internal/field"
	"ferry/internal/files"
	"ferry/internal/store"
)

// Bounds of what a pack has of the history.
const (
	packedSteps  = 2000
	packedWrites = 2000
	packedProofs = 100_000
)

// packOf gathers what is handed over, as it is now.
func (s *Server) packOf(c fiber.Ctx) (*handover.Of, error) {
	g, stops, now, _ := s.ground()
	plan, _ := s.planNow(c.Context())
	mode := s.mode()
	last, _ := s.Store.Proofs(mode)
	at := time.Now()
	of := &handover.Of{Site: now.Site, Seq: now.Seq, At: at, By: s.handedBy(c), Mode: mode, Plan: plan, Ground: g,
		Stops:  stops,
		Proofs: last, Measured: map[string]handover.Measured{}, Routes: map[string]*route.Route{}, Findings: s.findings(at)}
	for _, m := range s.Engine.Hub.Stats() {
		of.Measured[m.ID] = handover.Measured{Count: m.Count, Failed: m.Failed, MeanMs: m.MeanMs, WorstMs: m.WorstMs}
	}
	s.mu.Lock()
	for id, r := range s.routes {
		of.Routes[id] = r
	}
	s.mu.Unlock()
	entries, err := s.Store.Journal(c.Context(), packedSteps)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		of.Steps = append(of.Steps, handover.Step{Seq: e.Seq, At: e.At, Who: e.Who, What: e.What})
	}
	written, err := s.Store.WrittenList(c.Context(), packedWrites)
	if err != nil {
		return nil, err
	}
	for i := range written {
		w, err := writtenOf(&written[i])
		if err != nil {
			return nil, err
		}
		of.Writes = append(of.Writes, w)
	}
	return of, nil
}

// handedBy is who hands a pack out: a browser that follows a link says so in the address.
func (s *Server) handedBy(c fiber.Ctx) string {
	if by := c.Query("by"); by != "" && s.Accounts == nil && len(by) < 256 && utf8.ValidString(by) {
		return strings.Map(plainly, by)
	}
	return who(c)
}

// writtenOf is a row of the journal of writes in words.
func writtenOf(row *store.Written) (w handover.Written, err error) {
	var r field.Record
	if err := json.Unmarshal(row.Result, &r); err != nil {
		return w, fmt.Errorf("row %d of the journal of writes: %w", row.ID, err)
	}
	w = handover.Written{At: row.At, Who: row.Who, Point: strings.TrimPrefix(r.Order.Device+" · "+r.Order.Name, " · "),
		Old: r.Order.Old, New: r.Order.New, Unit: r.Order.Unit, Outcome: r.Sentence}
	if r.Crossing != "" {
		w.New, w.Outcome = r.Last, fmt.Sprintf("%d times, the last value is shown", r.Count)
	}
	return w, nil
}

// packFile is a pack for Ferry and other programs.
func (s *Server) packFile(ctx context.Context, of *handover.Of) (*files.PackFile, error) {
	file := &files.PackFile{Format: files.PackFormat, Version: files.PackVersion, MadeAt: of.At, By: of.By, Mode: of.Mode,
		Seq: of.Seq, Site: of.Site, Findings: of.Findings, Snapshots: []checkout.Snapshot{}, Steps: []files.PackStep{}}
	proofs, err := s.Store.AllProofs(ctx, packedProofs)
	if err != nil {
		return nil, err
	}
	file.Proofs = proofs
	list, err := s.Store.Snapshots(ctx)
	if err != nil {
		return nil, err
	}
	for i := range list {
		kept, err := s.Store.Snapshot(ctx, list[i].ID)
		if err != nil {
			return nil, err
		}
		if kept != nil {
			file.Snapshots = append(file.Snapshots, *kept)
		}
	}
	for _, step := range of.Steps {
		file.Steps = append(file.Steps, files.PackStep(step))
	}
	return file, nil
}

// part is a file of a pack.
type part struct {
	name  string
	write func(io.Writer) error
}

// getPack hands out everything that is handed over: all of it in one archive, or one part.
func (s *Server) getPack(c fiber.Ctx) error {
	defer s.inTurn()()
	of, err := s.packOf(c)
	if err != nil {
		return err
	}
	pack := handover.Make(of)
	file, err := s.packFile(c.Context(), of)
	if err != nil {
		return err
	}
	var maps []files.Map
	for i := range of.Site.Devices {
		if len(of.Site.Devices[i].Points) == 0 {
			continue
		}
		own, err := files.MapsOf(&of.Site.Devices[i])
		if err != nil {
			return problem.From(err, "protocol").At(of.Site.Devices[i].Name)
		}
		maps = append(maps, own...)
	}
	parts := []part{
		{"pdf", func(w io.Writer) error { return files.WritePackPDF(w, pack) }},
		{"html", func(w io.Writer) error { return files.WritePackHTML(w, pack) }},
		{"xlsx", func(w io.Writer) error { return files.WritePackXLSX(w, pack) }},
		{"json", func(w io.Writer) error { return files.WritePackJSON(w, file) }},
	}
	format := c.Params("format")
	name := fileName(fmt.Sprintf("%s hand-over %s", of.Site.Name, of.At.Format(time.DateOnly)))
	var out bytes.Buffer
	for _, p := range parts {
		if p.name != format {
			continue
		}
		if err := p.write(&out); err != nil {
			return err
		}
		c.Set("Content-Type", mapFormats[format])
		if format != "html" { // is opened, to be printed
			c.Attachment(name + "." + format)
		}
		return c.Send(out.Bytes())
	}
	if format != "zip" {
		return &status{404, problem.New("not-found", "A pack is handed out as zip, pdf, html, xlsx or json.", "").At(format)}
	}
	for i := range parts {
		parts[i].name = name + "." + parts[i].name
	}
	parts = append(parts,
		part{"csv/maps.csv", func(w io.Writer) error { return files.WriteMaps(w, maps) }},
		part{"csv/checkout.csv", func(w io.Writer) error {
			return files.WriteTable(w,
				of.Ground.Record(of.Stops, of.Proofs))
		}},
		part{"csv/crossings.csv", func(w io.Writer) error {
			return files.WriteCrossings(w, "csv", of.Site, of.Site.Ruled())
		}},
		part{"site.json", func(w io.Writer) error { return files.WriteSite(w, of.Site) }},
	)
	if err := zipped(&out, of.At, parts); err != nil {
		return err
	}
	c.Set("Content-Type", "application/zip")
	c.Attachment(name + ".zip")
	return c.Send(out.Bytes())
}

func zipped(w io.Writer, at time.Time, parts []part) error {
	archive := zip.NewWriter(w)
	for _, p := range parts {
		file, err := archive.CreateHeader(&zip.FileHeader{Name: p.name, Method: zip.Deflate, Modified: at})
		if err == nil {
			err = p.write(file)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
	}
	return archive.Close()
}

// takePack takes what a pack has besides its site: proofs, and snapshots that are not there yet.
func (s *Server) takePack(ctx context.Context, pack *files.PackFile) (said string, err error) {
	taken, err := s.Store.TakeProofs(ctx, pack.Proofs)
	if err != nil {
		return "", problem.New("not-kept", "The site was brought in, and its proofs could not be kept: "+err.Error()+".",
			"Look at the disk, then bring the pack in again.")
	}
	there, err := s.Store.Snapshots(ctx)
	if err != nil {
		return "", err
	}
	known := map[string]bool{}
	for i := range there {
		known[fmt.Sprint(there[i].AtMs, there[i].Name)] = true
	}
	added := 0
	for i := range pack.Snapshots {
		kept := &pack.Snapshots[i]
		if known[fmt.Sprint(kept.AtMs, kept.Name)] {
			continue
		}
		if err := s.Store.AddSnapshot(ctx, kept); err != nil {
			return "", err
		}
		added++
	}
	return fmt.Sprintf("%d of %d proofs and %d of %d snapshots were taken; those left out are there, or later ones.",
		taken, len(pack.Proofs), added, len(pack.Snapshots)), nil
}

// bringIn replaces the whole site in one step, which can be undone.
func (s *Server) bringIn(c fiber.Ctx, next *site.Site) (store.Entry, error) {
	return s.Store.Change(c.Context(), who(c), "brought in the site "+next.Name,
		func(now *site.Site) ([]site.Edit, error) { return site.Diff(now, next), nil })
}
