package route

import (
	"fmt"
	"net/netip"
	"strings"

	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// LineFindings says what is wrong with a line itself, from the plan: its wires
// and ports, its network, and settings that nobody knows and that would decide
// something.
func LineFindings(s *site.Site, line *site.Line) []finding.Finding {
	list := []finding.Finding{}
	add := func(code string, severity finding.Severity, title, sentence, remedy string) {
		list = append(list, finding.Finding{Code: code, Severity: severity, Sure: 1, Count: 1, Where: "lines",
			Title: line.Name + ": " + title, Sentence: sentence, Remedy: remedy,
			Evidence: []string{}, Subject: finding.Subject{Kind: "line", ID: line.ID, Name: line.Name}})
	}
	if line.Medium == site.SerialLine {
		wires := s.Wires(line)
		for _, f := range wires.Check() {
			severity := finding.Doubt
			if f.Certain {
				severity = finding.Fault
			}
			add(f.Code, severity, "the wires", f.Sentence, f.Remedy)
		}
		return list
	}
	if network, err := netip.ParsePrefix(line.Network); err == nil && line.Gateway != "" {
		if gateway, err := netip.ParseAddr(line.Gateway); err == nil && !network.Masked().Contains(gateway) {
			add("gateway-outside", finding.Fault, "the gateway",
				fmt.Sprintf("Its gateway %s is outside %s: nothing reaches it.", gateway, network.Masked()),
				"Correct the one or the other.")
		}
	}
	for i := range s.Devices {
		d := &s.Devices[i]
		if p := d.Port(line.ID); p != nil && p.Host != "" && p.Host == line.Gateway {
			add("gateway-taken", finding.Fault, "the gateway",
				fmt.Sprintf("%s has %s, and so has the gateway.", d.Name, p.Host), "Give the device another address.")
		}
		list = append(list, portTwice(s, line, d)...)
	}
	return append(list, stationTwice(s, line)...)
}

// stationTwice reports ends on a line that cannot be told apart from others of the site: by a number that has to
// be unique on all networks, or at one address.
func stationTwice(s *site.Site, line *site.Line) (list []finding.Finding) {
	type end struct {
		device *site.Device
		port   *site.Port
	}
	numbered, placed := map[string]end{}, map[string][]end{}
	report := func(code, title string, is, other end, why, remedy string) {
		if is.port.Line != line.ID {
			return // it is told of with its own line
		}
		list = append(list, finding.Finding{Code: code, Severity: finding.Fault, Sure: 1, Count: 1, Where: "lines",
			Evidence: []string{}, Subject: finding.Subject{Kind: "device", ID: is.device.ID, Device: is.device.ID,
				Name: is.device.Name}, Title: is.device.Name + ": " + title, Sentence: why, Remedy: remedy})
	}
	for i := range s.Devices {
		d := &s.Devices[i]
		for k := range d.Ports {
			p := &d.Ports[k]
			def, ok := protocol.Named(p.Protocol)
			n, has := def.StationOf(p.Settings)
			if !ok || !has || !p.Knows(def.Station) {
				continue
			}
			setting, _ := def.Setting(def.Station)
			word := strings.ToLower(setting.Title)
			is := end{d, p}
			if key := fmt.Sprint(def.Name, " ", n); def.Unique() {
				if other, twice := numbered[key]; twice {
					report("station-twice", word+" "+fmt.Sprint(n)+" twice", is, other,
						fmt.Sprintf("%s and %s both have the %s %d, which is unique on all networks together: questions for one go to either.",
							other.device.Name, d.Name, word, n), "Give one of them another.")
				} else {
					numbered[key] = is
				}
			}
			if p.Host == "" {
				continue
			}
			at := fmt.Sprintf("%s %s %s %d", def.Name, p.Line, p.Host, def.Int(p.Settings, protocol.KeyPort))
			for _, other := range placed[at] {
				if why := def.Clash(other.port.Settings, p.Settings); why != "" {
					report("place-twice", "one address for two", is, other,
						fmt.Sprintf("%s and %s are both to answer at %s: %s.", other.device.Name, d.Name, p.Host, why),
						"Change what one of them is set to.")
					break
				}
			}
			placed[at] = append(placed[at], is)
		}
	}
	return list
}

// portTwice reports protocols of one device that listen on one TCP port.
func portTwice(s *site.Site, line *site.Line, d *site.Device) []finding.Finding {
	var list []finding.Finding
	taken := map[string]string{}
	for i := range d.Ports {
		p := &d.Ports[i]
		def, ok := protocol.Named(p.Protocol)
		if _, has := def.Setting("port"); !ok || !has {
			continue
		}
		at := fmt.Sprintf("%s port %d", p.Host, def.Int(p.Settings, "port"))
		if other, twice := taken[at]; twice && p.Line == line.ID {
			list = append(list, finding.Finding{Code: "port-twice", Severity: finding.Fault, Sure: 1, Count: 1,
				Where: "lines", Evidence: []string{},
				Subject:  finding.Subject{Kind: "device", ID: d.ID, Device: d.ID, Name: d.Name},
				Title:    d.Name + ": one port for two",
				Sentence: fmt.Sprintf("%s is to answer %s and %s on %s.", d.Name, other, def.Title, at),
				Remedy:   "Give one of them another port."})
		}
		taken[at] = def.Title
	}
	return list
}
