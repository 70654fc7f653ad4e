package api

import (
	"bytes"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/handover"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/files"
)

// ReadersView is the beginning of a list for whoever reads next, and what it can be made with.
type ReadersView struct {
	Columns []string   `json:"columns"`
	Rows    [][]string `json:"rows"`
	// Count is how many rows there are in all.
	Count     int                 `json:"count"`
	Notations []string            `json:"notations"`
	Rules     []protocol.NameRule `json:"rules"`
}

// shownRows is how many rows of a list are shown before it is handed out.
const shownRows = 200

func (s *Server) readable(c fiber.Ctx) (*handover.Readable, error) {
	now, _ := s.Store.Site()
	reader := handover.Reader{Device: c.Query("device"), Name: c.Query("name"), Rule: c.Query("rule"),
		Notation: c.Query("notation")}
	return reader.List(now)
}

// getReaders shows the list for another reader.
func (s *Server) getReaders(c fiber.Ctx) error {
	list, err := s.readable(c)
	if err != nil {
		return err
	}
	view := ReadersView{Rows: list.Table.Rows[:min(len(list.Table.Rows), shownRows)], Count: len(list.Table.Rows),
		Notations: list.Notations, Rules: regmap.NameRules()}
	for _, column := range list.Table.Columns {
		view.Columns = append(view.Columns, column.Title)
	}
	return c.JSON(view)
}

// getReadersFile hands the list for another reader out as csv or xlsx.
func (s *Server) getReadersFile(c fiber.Ctx) error {
	list, err := s.readable(c)
	if err != nil {
		return err
	}
	now, _ := s.Store.Site()
	format := c.Params("format")
	var out bytes.Buffer
	switch format {
	case "csv":
		rows := [][]string{{}}
		for _, column := range list.Table.Columns {
			rows[0] = append(rows[0], column.Title)
		}
		err = files.WriteTable(&out, append(rows, list.Table.Rows...))
	case "xlsx":
		err = files.WritePackXLSX(&out, &handover.Pack{Site: now.Name,
			Sections: []handover.Section{{Tables: []handover.Table{list.Table}}},
			Facts:    []handover.Fact{{Name: "Handed out", Says: time.Now().Format("2 January 2006, 15:04")}}})
	default:
		return &status{404, problem.New("not-found", "A list is handed out as csv or xlsx.", "").At(format)}
	}
	if err != nil {
		return err
	}
	c.Set("Content-Type", mapFormats[format])
	c.Attachment(fileName(now.Name+" points to read") + "." + format)
	return c.Send(out.Bytes())
}
