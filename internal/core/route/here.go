package route

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"ferry/internal/core/site"
)

// Interface is one network interface of this machine.
type Interface struct {
	Name  string   `json:"name"`
	Addrs []string `json:"addrs"` // in CIDR form
	Up    bool     `json:"up"`
}

// SerialHere is one serial port of this machine.
type SerialHere struct {
	Path    string `json:"path"`
	Owner   string `json:"owner"`   // the program that has it open
	Trouble string `json:"trouble"` // why it cannot be used
}

// Machine is what this machine could put on a line.
type Machine struct {
	Interfaces []Interface  `json:"interfaces"`
	Ports      []SerialHere `json:"ports"`
}

// OnLine is this machine beside one line.
type OnLine struct {
	Line   string `json:"line"`
	Result Result `json:"result"`
	// Uses is the interface or port that would be used, empty for none.
	Uses   string `json:"uses"`
	Saw    string `json:"saw"`
	Remedy string `json:"remedy"`
}

// Here judges what this machine would use on a line of a plant: which
// interface or port, whether it is in the subnet, whether its address collides,
// whether the port is free.
func (m *Machine) Here(s *site.Site, line *site.Line) OnLine {
	if line.Medium == site.SerialLine {
		return m.serialHere(line)
	}
	on := OnLine{Line: line.ID}
	network, err := netip.ParsePrefix(line.Network)
	if err != nil {
		on.Result, on.Saw, on.Remedy = Doubt, line.Name+" has no network to compare this machine with.",
			"Enter it in the panel of the line."
		return on
	}
	network = network.Masked()
	for _, i := range m.Interfaces {
		for _, text := range i.Addrs {
			own, err := netip.ParsePrefix(text)
			if err != nil || !network.Contains(own.Addr()) {
				continue
			}
			on.Uses, on.Result = i.Name, Good
			on.Saw = fmt.Sprintf("This machine is on %s with %s, by %s.", network, own.Addr(), i.Name)
			if !i.Up {
				on.Result, on.Saw, on.Remedy = Fault, on.Saw+" That interface is down.", "Plug its cable in."
			}
			for k := range s.Devices {
				if p := s.Devices[k].Port(line.ID); p != nil && p.Host == own.Addr().String() {
					on.Result, on.Saw = Fault,
						fmt.Sprintf("This machine has %s by %s, and so has %s in the plan.", own.Addr(), i.Name,
							s.Devices[k].Name)
					on.Remedy = "Give this machine another address of that network."
				}
			}
			if own.Bits() != network.Bits() && on.Result == Good {
				on.Result, on.Remedy = Doubt, fmt.Sprintf("Set its mask to /%d, as the line has it.", network.Bits())
				on.Saw += fmt.Sprintf(" Its mask is /%d.", own.Bits())
			}
			return on
		}
	}
	on.Result = Doubt
	on.Saw = fmt.Sprintf("No interface of this machine is in %s: what is asked there goes by way of a gateway, or "+
		"not at all.", network)
	on.Remedy = fmt.Sprintf("Give this machine a free address of %s%s.", network, free(s, line, network))
	return on
}

// free names an address that nobody in the plan has.
func free(s *site.Site, line *site.Line, network netip.Prefix) string {
	var taken []string
	for i := range s.Devices {
		if p := s.Devices[i].Port(line.ID); p != nil {
			taken = append(taken, p.Host)
		}
	}
	taken = append(taken, line.Gateway)
	candidate := network.Addr()
	for range 250 {
		if candidate = candidate.Next(); !network.Contains(candidate) {
			return ""
		}
		if next := candidate.Next(); candidate.Is4() && !network.Contains(next) {
			return "" // the broadcast address
		}
		if !slices.Contains(taken, candidate.String()) && !strings.HasSuffix(candidate.String(), ".1") {
			return ", such as " + candidate.String()
		}
	}
	return ""
}

func (m *Machine) serialHere(line *site.Line) OnLine {
	on := OnLine{Line: line.ID, Uses: line.Here}
	if line.Here == "" {
		on.Result, on.Saw, on.Remedy = Doubt, "No serial port of this machine is chosen for "+line.Name+".",
			"Choose one in the panel of the line."
		if len(m.Ports) == 0 {
			on.Saw, on.Remedy = "This machine has no serial port.", "Plug an adapter in."
		}
		return on
	}
	for _, p := range m.Ports {
		if p.Path != line.Here {
			continue
		}
		switch {
		case p.Trouble != "":
			on.Result, on.Saw, on.Remedy = Fault, fmt.Sprintf("%s cannot be used: %s.", p.Path, p.Trouble),
				"Have the user put into the group that may open serial ports, and log in anew."
		case p.Owner != "":
			on.Result, on.Saw, on.Remedy = Fault, fmt.Sprintf("%s has %s open.", p.Owner, p.Path),
				"Close it, or choose another port."
		default:
			on.Result, on.Saw = Good, p.Path+" is free."
		}
		return on
	}
	on.Result, on.Saw, on.Remedy = Fault, fmt.Sprintf("This machine has no port %s.", line.Here),
		"Plug the adapter in, or choose another port."
	return on
}
