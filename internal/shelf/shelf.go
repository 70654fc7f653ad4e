// Package shelf holds the datasheets that ship with Ferry: made-up ones, for
// the instruments of the hatchery. Each is a map in CSV behind one line with
// its name, its protocol, the most registers of one request, the milliseconds
// for which it thinks and a remark; a star before the name of a point marks it
// as useful. What must be switched on in a device is in package access.
package shelf

import (
	"embed"
	"fmt"
	"strconv"
	"strings"
	"sync"

	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
	"ferry/internal/files"
	"ferry/internal/shelf/access"
)

//go:embed sheets/*.csv
var sheets embed.FS

// Datasheets returns the shipped datasheets, ordered by name of file. They are
// not to be changed.
var Datasheets = sync.OnceValue(func() []site.Datasheet {
	entries, err := sheets.ReadDir("sheets")
	if err != nil {
		panic(err) // the folder is embedded above
	}
	var list []site.Datasheet
	for _, e := range entries {
		data, err := sheets.ReadFile("sheets/" + e.Name())
		if err != nil {
			panic(err)
		}
		d, err := parse(strings.TrimSuffix(e.Name(), ".csv"), data)
		if err != nil {
			panic("shelf: " + e.Name() + ": " + err.Error()) // a test reads every one
		}
		d.Access = access.Lines()[strings.TrimSuffix(e.Name(), ".csv")]
		list = append(list, d)
	}
	return list
})

func parse(id string, data []byte) (site.Datasheet, error) {
	head, table, _ := strings.Cut(string(data), "\n")
	parts := strings.SplitN(strings.TrimPrefix(head, "# "), " | ", 5)
	if len(parts) != 5 {
		return site.Datasheet{}, fmt.Errorf("its first line has not the five parts")
	}
	d := site.Datasheet{ID: "shelf-" + id, Name: parts[0], Map: parts[1], Remark: parts[4]}
	most, err := strconv.Atoi(parts[2])
	if err != nil {
		return d, err
	}
	d.Limits.MaxRegisters = most
	if d.ThinkMs, err = strconv.Atoi(parts[3]); err != nil {
		return d, err
	}
	scheme, err := protocol.SchemeOf(d.Map)
	if err != nil {
		return d, err
	}
	rows, err := files.ReadTable([]byte(table))
	if err != nil {
		return d, err
	}
	listing := regmap.Recognise(scheme, rows, regmap.Reading{}, nil)
	points, _, rejected := listing.Points(scheme)
	if len(rejected) > 0 {
		return d, fmt.Errorf("%+v", rejected[0])
	}
	for i := range points {
		name, useful := strings.CutPrefix(points[i].Name, "*")
		points[i].Name, points[i].ID = name, fmt.Sprintf("p%02d", i+1)
		d.Points = append(d.Points, site.SheetPoint{Point: points[i], Useful: useful})
	}
	return d, nil
}
