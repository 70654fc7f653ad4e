package route

import (
	"fmt"
	"net/netip"

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
