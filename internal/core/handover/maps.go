package handover

import (
	"fmt"
	"slices"
	"strings"

	"ferry/internal/core/crossing"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
)

// mapColumns are those of a printed map, and what each has of the width; what a map leaves
// empty everywhere is left out.
var mapColumns = []struct {
	column regmap.Column
	title  string
	share  float64
	mono   bool
}{
	{regmap.Name, "Name", 0.17, false}, {regmap.Address, "Address", 0.11, true}, {regmap.Type, "Reads as", 0.08, true},
	{regmap.Order, "Order", 0.07, true}, {regmap.Scale, "Scale", 0.08, true}, {regmap.Offset, "Offset", 0.06, true},
	{regmap.Unit, "Unit", 0.06, false}, {regmap.Pace, "Pace", 0.06, false}, {regmap.Access, "Access", 0.05, false},
	{regmap.Low, "Low", 0.05, true}, {regmap.High, "High", 0.05, true}, {regmap.Names, "Names of its values", 0.14, false},
	{regmap.Missing, "Not available", 0.07, true}, {regmap.Remark, "Remark", 0.14, false},
}

// maps are the maps of all devices.
func (of *Of) maps() Section {
	s := Section{Title: "Maps", Says: "Every point of every device, as it is read and written."}
	for i := range of.Site.Devices {
		whole := &of.Site.Devices[i]
		for _, name := range whole.Maps() {
			d := whole.In(name)
			if len(d.Points) == 0 {
				continue
			}
			t := Table{Title: d.Name, Sheet: "Maps", Mark: -1,
				Says: strings.TrimPrefix(d.Model+" · "+count(len(d.Points), "point"), " · ")}
			cells := make([][]string, len(mapColumns))
			for k, c := range mapColumns {
				used := false
				for j := range d.Points {
					p := &d.Points[j]
					text := ""
					if scheme, err := d.SchemeOf(p); err == nil {
						text = regmap.Cell(scheme, p, c.column)
					}
					used = used || text != ""
					cells[k] = append(cells[k], text)
				}
				if used {
					t.Columns = append(t.Columns, Column{c.title, c.share, c.mono, false})
					continue
				}
				cells[k] = nil
			}
			for j := range d.Points {
				row := make([]string, 0, len(t.Columns))
				for k := range mapColumns {
					if cells[k] != nil {
						row = append(row, cells[k][j])
					}
				}
				t.Rows = append(t.Rows, row)
			}
			s.Tables = append(s.Tables, t)
		}
	}
	if len(s.Tables) == 0 {
		s.Says = "No device has a map."
	}
	return s
}

// crossings are what is carried from where to where, and by which rules.
func (of *Of) crossings() Section {
	s := Section{Title: "Crossings", Says: "What is carried from one device into another, and on which terms."}
	columns := []Column{{"From", 0.24, false, false}, {"Into", 0.24, false, false},
		{"On the way, and when", 0.34, false, false}, {"At most", 0.07, true, true}, {"Remark", 0.11, false, false}}
	tables := map[string]*Table{"": {Title: "One by one", Sheet: "Crossings", Columns: columns, Mark: -1}}
	order := []string{""}
	for i := range of.Site.Lists {
		l := &of.Site.Lists[i]
		says := "names of " + of.nameOf(l.Far)
		if l.Remark != "" {
			says += " · " + l.Remark
		}
		tables[l.ID] = &Table{Title: l.Name, Says: says, Sheet: "Crossings", Columns: columns, Mark: -1}
		order = append(order, l.ID)
	}
	ruled := of.Site.Ruled()
	for i := range ruled {
		x := &ruled[i]
		t := tables[x.List]
		if t == nil {
			t = tables[""]
		}
		var from []string
		for _, id := range append([]string{x.From}, x.More...) {
			if id != "" {
				from = append(from, of.pointOf(id))
			}
		}
		words, allow := crossing.Words(x), ""
		if x.Off {
			words = "switched off · " + words
		}
		if x.AllowMs > 0 {
			allow = fmt.Sprintf("%d ms", x.AllowMs)
		}
		t.Rows = append(t.Rows, []string{strings.Join(from, "\n"), of.pointOf(x.To), words, allow, x.Remark})
	}
	for _, id := range order {
		if len(tables[id].Rows) > 0 {
			s.Tables = append(s.Tables, *tables[id])
		}
	}
	if len(s.Tables) == 0 {
		s.Says = "Nothing is carried from one device into another."
	}
	return s
}

// timetable is how full the lines are, as predicted and as measured, and what is asked.
func (of *Of) timetable() Section {
	s := Section{Title: "Timetable",
		Says: "How much of the time of each line is taken, as worked out and as a run has measured " +
			"it; and every request with its times. On Ethernet it is the busiest connection that counts."}
	measured := map[string]float64{}
	for i := range of.Plan.Requests {
		r := &of.Plan.Requests[i]
		if m, ok := of.Measured[r.ID]; ok && r.PaceMs > 0 && m.Count > m.Failed {
			measured[r.Link] += m.MeanMs / float64(r.PaceMs)
		}
	}
	lines := Table{Title: "Lines", Sheet: "Lines", Mark: 2, Columns: []Column{{"Line", 0.3, false, false},
		{"Requests", 0.1, true, true},
		{"Holds", 0.1, false, false}, {"Predicted", 0.13, true, true}, {"Measured", 0.13, true, true},
		{"Oldest value", 0.12, true, true},
		{"One round", 0.12, true, true}}}
	for i := range of.Plan.Lines {
		l := &of.Plan.Lines[i]
		line := of.Site.Line(l.Line)
		if line == nil || l.Requests+l.Loads == 0 {
			continue
		}
		seen := 0.0
		for j := range of.Site.Links {
			if link := &of.Site.Links[j]; link.Line == l.Line {
				if line.Medium == site.SerialLine {
					seen += measured[link.ID]
				} else {
					seen = max(seen, measured[link.ID])
				}
			}
		}
		lines.Rows = append(lines.Rows, []string{line.Name, fmt.Sprint(l.Requests), yes(l.Holds), percent(l.Utilisation),
			percent(seen), millis(l.OldestMs), millis(l.RoundMs)})
	}
	requests := Table{Title: "Requests", Sheet: "Timetable", Mark: -1, Columns: []Column{{"Device", 0.17, false, false},
		{"Asks for", 0.25, true, false}, {"Points", 0.06, true, true}, {"Every", 0.08, true, true},
		{"Takes", 0.09, true, true},
		{"Measured", 0.09, true, true}, {"Worst", 0.09, true, true}, {"Times", 0.08, true, true},
		{"Failed", 0.09, true, true}}}
	for i := range of.Plan.Requests {
		r := &of.Plan.Requests[i]
		row := []string{of.nameOf(r.Device), r.Operation, fmt.Sprint(len(r.Points)), pace(r.PaceMs),
			millis(r.PlannedMs()), "", "", "", ""}
		if m, ok := of.Measured[r.ID]; ok && m.Count > 0 {
			row[5], row[6], row[7], row[8] = millis(m.MeanMs), millis(m.WorstMs), fmt.Sprint(m.Count), fmt.Sprint(m.Failed)
		}
		requests.Rows = append(requests.Rows, row)
	}
	loads := Table{Title: "What comes without being asked for, and what is written", Sheet: "Loads", Mark: -1,
		Columns: []Column{
			{"Device", 0.25, false, false}, {"What", 0.4, false, false}, {"Octets", 0.1, true, true},
			{"Every", 0.12, true, true},
			{"Share", 0.13, true, true}}}
	for i := range of.Plan.Loads {
		l := &of.Plan.Loads[i]
		loads.Rows = append(loads.Rows, []string{of.nameOf(l.Device), l.Title, fmt.Sprint(l.Octets), millis(l.PeriodMs),
			percent(l.Share)})
	}
	for _, t := range []Table{lines, requests, loads} {
		if len(t.Rows) > 0 {
			s.Tables = append(s.Tables, t)
		}
	}
	if len(s.Tables) == 0 {
		s.Says = "Nothing is asked for."
	}
	return s
}

func yes(is bool) string {
	if is {
		return "yes"
	}
	return "no"
}

func percent(share float64) string {
	if share == 0 {
		return ""
	}
	if share < 0.001 {
		return "under 0.1 %"
	}
	return fmt.Sprintf("%.1f %%", 100*share)
}

func millis(ms float64) string {
	switch {
	case ms == 0:
		return ""
	case ms < 100:
		return fmt.Sprintf("%.1f ms", ms)
	}
	return fmt.Sprintf("%.0f ms", ms)
}

func pace(ms int) string {
	if ms == 0 {
		return "once"
	}
	return regmap.PrintPace(ms)
}

// open are the findings that are open.
func (of *Of) open() Section {
	s := Section{Title: "Open findings"}
	t := Table{Title: "Findings", Sheet: "Findings", Mark: 0, Columns: []Column{{"Weighs", 0.07, false, false},
		{"Of", 0.16, false, false},
		{"What", 0.17, false, false}, {"In words", 0.33, false, false}, {"What to do", 0.27, false, false}}}
	for i := range of.Findings {
		f := &of.Findings[i]
		t.Rows = append(t.Rows, []string{string(f.Severity), f.Subject.Name, f.Title, f.Sentence, f.Remedy})
	}
	slices.SortStableFunc(t.Rows, func(a, b []string) int { return weighs(a[0]) - weighs(b[0]) })
	if s.Says = "Nothing is open."; len(t.Rows) > 0 {
		s.Says, s.Tables = "What Ferry found and nobody has put right yet.", []Table{t}
	}
	return s
}

func weighs(severity string) int {
	return map[string]int{"fault": 0, "doubt": 1, "note": 2}[severity]
}
