package api

import (
	"bytes"
	"crypto/rand"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/problem"
	"ferry/internal/core/site"
	"ferry/internal/files"
)

// getMapFile hands out the map of one device: csv, xlsx, json, xml, html or pdf.
func (s *Server) getMapFile(c fiber.Ctx) error {
	now, _ := s.Store.Site()
	d := now.Device(c.Params("id"))
	if d == nil {
		return problem.New("gone", "The device is no longer in the site.",
			"Reload to see what changed.").At(c.Params("id"))
	}
	if name := c.Query("map"); name != "" {
		d = d.In(name)
	}
	return s.handOut(c, now, []site.Device{*d}, d.Name+" map", c.Params("format"))
}

// getMapsFile hands out the maps of the whole site in one file.
func (s *Server) getMapsFile(c fiber.Ctx) error {
	now, _ := s.Store.Site()
	return s.handOut(c, now, now.Devices, now.Name+" maps", c.Params("format"))
}

var mapFormats = map[string]string{
	"csv": "text/csv; charset=utf-8", "json": "application/json", "xml": "application/xml",
	"html": "text/html; charset=utf-8", "pdf": "application/pdf",
	"xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
}

func (s *Server) handOut(c fiber.Ctx, now *site.Site, devices []site.Device, name, format string) error {
	defer s.inTurn()()
	var maps []files.Map
	for i := range devices {
		if len(devices) > 1 && len(devices[i].Points) == 0 {
			continue
		}
		own, err := files.MapsOf(&devices[i])
		if err != nil {
			return problem.From(err, "protocol").At(devices[i].Name)
		}
		for k := range own {
			own[k].In = c.Query("notation")
		}
		maps = append(maps, own...)
	}
	if mapFormats[format] == "" || len(maps) != 1 && format == "json" {
		return &status{404, problem.New("not-found",
			"Maps are handed out as csv, xlsx, json, xml, html or pdf; the whole site as JSON is its site file.",
			"").At(format)}
	}
	printed := time.Now()
	sheet := &files.MapSheet{Site: now.Name, Remark: now.Remark, Printed: printed.Format("2006-01-02 15:04"),
		Maps: maps}
	var b bytes.Buffer
	var err error
	switch format {
	case "csv":
		if len(maps) == 1 {
			err = files.WriteMap(&b, &maps[0])
		} else {
			err = files.WriteMaps(&b, maps)
		}
	case "json":
		err = files.WriteMapJSON(&b, &maps[0])
	case "xlsx":
		err = files.WriteWorkbook(&b, maps)
	case "xml":
		err = files.WriteIEC(&b, now.Name, printed.Format("2006-01-02T15:04:05"), now.Structures, maps)
	case "html":
		err = files.WriteMapSheet(&b, sheet)
	case "pdf":
		err = files.WriteMapPDF(&b, sheet)
	}
	if err != nil {
		return err
	}
	c.Set("Content-Type", mapFormats[format])
	if format != "html" { // is opened, to be printed
		c.Attachment(fileName(name) + "." + format)
	}
	return c.Send(b.Bytes())
}

// fileName keeps of a name what every file system takes.
func fileName(name string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == ' ', r == '-', r == '_', r >= '0' && r <= '9', r >= 'a' && r <= 'z', r >= 'A' && r <= 'Z':
			return r
		}
		return '-'
	}, name)
}

// newID makes an id that no site has yet.
func newID() string { return strings.ToLower(rand.Text()[:12]) }
