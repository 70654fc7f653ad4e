package handover

import (
	"fmt"
	"slices"
	"strings"

	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
)

// drawings are the lines as they are drawn: a rail with its devices, the asking end first.
func (of *Of) drawings() Section {
	s := Section{Title: "Lines",
		Says: "Each line with its devices: the end that asks is dark. The five marks are the stops of " +
			"its link as it was tried last: wire, address, session, points, pace."}
	used := map[string]float64{}
	for i := range of.Plan.Lines {
		used[of.Plan.Lines[i].Line] = of.Plan.Lines[i].Utilisation
	}
	for i := range of.Site.Lines {
		l := &of.Site.Lines[i]
		rail := Rail{Title: l.Name, About: about(l), Dashed: l.Medium == site.SerialLine, Used: used[l.ID]}
		var answering []Card
		for j := range of.Site.Devices {
			d := &of.Site.Devices[j]
			port := d.Port(l.ID)
			if port == nil {
				continue
			}
			card := Card{Name: d.Name, Place: place(l, port)}
			asks := 0
			for k := range of.Site.Links {
				link := &of.Site.Links[k]
				if link.Line != l.ID {
					continue
				}
				if link.Asking == d.ID {
					asks++
				}
				if r := of.Routes[link.ID]; link.Answering == d.ID && r != nil {
					card.Stops = card.Stops[:0]
					for _, stop := range r.Stops {
						card.Stops = append(card.Stops, stop.Result)
					}
				}
			}
			switch {
			case asks > 0:
				card.Dark, card.Stops, card.Says = true, nil, "asks "+count(asks, "link")
				rail.Cards = append(rail.Cards, card)
				continue
			case d.Served():
				card.Says = "Ferry answers"
			case len(card.Stops) == 0:
				card.Says = "not tried"
			}
			answering = append(answering, card)
		}
		rail.Cards = append(rail.Cards, answering...)
		s.Rails = append(s.Rails, rail)
	}
	return s
}

func about(l *site.Line) string {
	if l.Medium != site.SerialLine || l.Serial == nil {
		return strings.TrimSuffix("Ethernet, "+l.Network, ", ")
	}
	said := fmt.Sprintf("%s, %s", l.Serial.Standard.Title(), l.Serial.Format)
	if l.Serial.LengthM > 0 {
		said += fmt.Sprintf(", %g m", l.Serial.LengthM)
	}
	return said
}

// place is where a device is found on a line: its address, or its station.
func place(l *site.Line, port *site.Port) string {
	if l.Medium != site.SerialLine {
		if port.Host == "" {
			return "no address"
		}
		return port.Host
	}
	if port.Protocol == "" {
		if port.Serial != nil && port.Serial.Name != "" {
			return port.Serial.Name
		}
		return "its port"
	}
	def, _ := protocol.Named(port.Protocol)
	if n, ok := def.StationOf(port.Settings); ok {
		if !port.Knows(def.Station) {
			return def.StationWord() + " not known"
		}
		return fmt.Sprintf("%s %d", def.StationWord(), n)
	}
	return ""
}

// ends are the settings of both ends of each link, face to face.
func (of *Of) ends() Section {
	s := Section{Title: "Settings of both ends",
		Says: "What has to agree stands side by side. A link whose ends differ says " + "what comes of it."}
	for i := range of.Site.Links {
		link := &of.Site.Links[i]
		line := of.Site.Line(link.Line)
		if line == nil {
			continue
		}
		def, _ := protocol.Named(link.Protocol)
		t := Table{Title: of.nameOf(link.Asking) + " → " + of.nameOf(link.Answering), Sheet: "Settings", Mark: 3,
			Says: def.Title + ", on " + line.Name,
			Columns: []Column{{"Setting", 0.22, false, false}, {of.nameOf(link.Asking), 0.2, true, false},
				{of.nameOf(link.Answering), 0.2, true, false}, {"Agrees", 0.1, false, false},
				{"What comes of it", 0.28, false, false}}}
		for _, row := range route.FaceToFace(of.Site, link) {
			t.Rows = append(t.Rows, []string{titled(row.Title, row.Unit), row.Asking, row.Answering, agrees(row.Result),
				row.Symptom})
		}
		if facing := route.Facing(of.Site, link); facing != nil {
			for _, way := range facing.Ways {
				t.Rows = append(t.Rows, []string{way.Said, octets(way.AskingOctets, way.AskingRemark),
					octets(way.AnswerOctets, way.AnswerRemark), agrees(route.Result(way.Verdict)), way.Says})
			}
			for _, row := range facing.Rows {
				t.Rows = append(t.Rows, []string{row.Title, row.Said, "", agrees(route.Result(row.Verdict)), row.Says})
			}
			for _, line := range facing.Typed {
				t.Rows = append(t.Rows, []string{"in the far tool: " + line.Title, "", line.Value, "", ""})
			}
		}
		said := map[string]bool{}
		for _, row := range t.Rows {
			said[row[0]] = true
		}
		rows := own(def, link.Settings, true)
		if d := of.Site.Device(link.Answering); d != nil && d.PortFor(link) != nil {
			rows = append(rows, own(def, d.PortFor(link).Settings, false)...)
		}
		t.Rows = append(t.Rows, slices.DeleteFunc(rows, func(row []string) bool { return said[row[0]] })...)
		s.Tables = append(s.Tables, t)
	}
	if len(s.Tables) == 0 {
		s.Says = "The site has no link."
	}
	return s
}

// own are the settings that one end alone has.
func own(def *protocol.Def, values protocol.Settings, asking bool) (rows [][]string) {
	if def == nil {
		return nil
	}
	for i := range def.Settings {
		setting := &def.Settings[i]
		value := def.Value(values, setting.Key).String()
		switch {
		case setting.End == protocol.BothEnds || value == "" || setting.Kind == protocol.Secret:
			continue
		case setting.End == protocol.Asking && asking:
			rows = append(rows, []string{titled(setting.Title, setting.Unit), value, "", "", ""})
		case setting.End == protocol.Answering && !asking:
			rows = append(rows, []string{titled(setting.Title, setting.Unit), "", value, "", ""})
		}
	}
	return rows
}

func octets(n int, remark string) string {
	return strings.TrimSpace(fmt.Sprintf("%d octets %s", n, remark))
}

func titled(title, unit string) string {
	if unit == "" {
		return title
	}
	return title + ", " + unit
}

func agrees(r route.Result) string {
	switch r {
	case route.Good:
		return "yes"
	case route.Fault:
		return "no"
	case route.Doubt:
		return "perhaps"
	}
	return "not known"
}
