package site

// AccessKind is what an access line is about; it decides which symptom it
// explains.
type AccessKind string

// The kinds of access that devices ask for before they answer.
const (
	AccessRemote   AccessKind = "remote"   // remote access permitted
	AccessServer   AccessKind = "server"   // the server task started
	AccessMode     AccessKind = "mode"     // run mode
	AccessLayout   AccessKind = "layout"   // data laid out so that it can be addressed
	AccessWrite    AccessKind = "write"    // permission to write
	AccessRestart  AccessKind = "restart"  // restart after a change
	AccessFirewall AccessKind = "firewall" // port opened on the way
)

// AccessKinds lists the kinds with their titles.
func AccessKinds() []AccessTitle {
	return []AccessTitle{
		{AccessRemote, "remote access permitted"}, {AccessServer, "server task started"}, {AccessMode, "run mode"},
		{AccessLayout, "fixed data layout"}, {AccessWrite, "write permission"},
		{AccessRestart, "restart after a change"}, {AccessFirewall, "firewall port opened"},
	}
}

// AccessTitle is a kind of access in words.
type AccessTitle struct {
	Kind  AccessKind `json:"kind"`
	Title string     `json:"title"`
}

// AccessLine is one thing that must be switched on in a device.
type AccessLine struct {
	ID   string     `json:"id"`
	Kind AccessKind `json:"kind" jsonschema:"enum=remote,enum=server,enum=mode,enum=layout,enum=write,enum=restart,enum=firewall"`
	Text string     `json:"text"` // where and how, as the manual says it
}

// Tick says who has seen to an access line, and when.
type Tick struct {
	Line string `json:"line"`
	By   string `json:"by"`
	At   string `json:"at"` // RFC 3339
}

// Checklist returns the access lines of a device: those of the datasheets it
// was placed from, and its own.
func (s *Site) Checklist(d *Device) []AccessLine {
	lines := []AccessLine{}
	seen := map[string]bool{}
	add := func(list []AccessLine) {
		for _, l := range list {
			if !seen[l.ID] {
				seen[l.ID] = true
				lines = append(lines, l)
			}
		}
	}
	for i := range d.Placements {
		if sheet := s.Datasheet(d.Placements[i].Datasheet); sheet != nil {
			add(sheet.Access)
		}
	}
	add(d.Access)
	return lines
}

// Ticked returns the tick of an access line, if it has one.
func (d *Device) Ticked(line string) (Tick, bool) {
	for _, t := range d.Ticks {
		if t.Line == line {
			return t, true
		}
	}
	return Tick{}, false
}

// Unticked returns the access lines of a device that nobody has seen to and
// that are of one of the given kinds.
func (s *Site) Unticked(d *Device, kinds ...AccessKind) []AccessLine {
	var open []AccessLine
	for _, l := range s.Checklist(d) {
		if _, ok := d.Ticked(l.ID); ok {
			continue
		}
		for _, kind := range kinds {
			if l.Kind == kind {
				open = append(open, l)
				break
			}
		}
	}
	return open
}
