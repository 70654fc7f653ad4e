package checkout

import (
	"strings"
	"time"

	"ferry/internal/core/regmap"
)

// recordHeadings are those of the record of a checkout.
var recordHeadings = []string{"cabinet", "line", "device", "point", "address", "unit", "state", "ferry read",
	"display shows", "far shore",
	"far shore shows", "expected there", "how", "reason", "remark", "by", "at (UTC)", "where", "changed since"}

// Record is the record of a checkout as a table, its headings first: every point in walking
// order with its last proof, those that nobody has proved among them.
func (g *Ground) Record(stops []Stop, last map[string]*Proved) [][]string {
	rows := [][]string{recordHeadings}
	for i := range stops {
		stop := &stops[i]
		line := ""
		if l := g.site.Line(stop.Line); l != nil {
			line = l.Name
		}
		for _, stand := range stop.Points {
			d, p := g.Point(stand.Point)
			if p == nil {
				continue
			}
			row := []string{stop.Cabinet, line, d.Name, p.Name, "", p.Unit, string(stand.State)}
			if scheme, err := d.SchemeOf(p); err == nil {
				row[4] = regmap.Cell(scheme, p, regmap.Address)
			}
			proof := last[p.ID]
			if proof == nil || proof.Result == Withdrawn {
				rows = append(rows, append(row, make([]string, len(recordHeadings)-len(row))...))
				continue
			}
			rows = append(rows, append(row, proof.Read, proof.Shown, proof.FarName, proof.Far, proof.Expected,
				string(proof.Method),
				proof.Reason, proof.Remark, proof.Who, time.UnixMilli(proof.AtMs).UTC().Format("2006-01-02 15:04:05"), proof.Mode,
				strings.Join(stand.Changed, "; ")))
		}
	}
	return rows
}
