// Package route holds the five stops that a message passes on a link, and what
// can be said of them from the plan alone.
package route

import (
	"fmt"
	"net/netip"
	"time"

	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// Stop is one of the five places at which a message can stop.
type Stop string

// The stops in their order.
//
//	Wire     the addresses fit the subnet, and something comes back
//	Address  a program listens at the address that is asked
//	Session  the unit answers, in the protocol, and says who it is
//	Points   every point of the map can be read
//	Pace     every pace holds
const (
	Wire    Stop = "wire"
	Address Stop = "address"
	Session Stop = "session"
	Points  Stop = "points"
	Pace    Stop = "pace"
)

// Stops lists all stops in order.
func Stops() []Stop { return []Stop{Wire, Address, Session, Points, Pace} }

// Result is what came of checking a stop.
type Result string

// The results. A route goes on after a doubt and ends at a fault.
const (
	Good     Result = "good"
	Doubt    Result = "doubt"
	Fault    Result = "fault"
	NotTried Result = "not-tried"
)

// Check is one stop with what was seen there.
type Check struct {
	Stop   Stop   `json:"stop"`
	Result Result `json:"result"`
	Saw    string `json:"saw"`
	Remedy string `json:"remedy"`
}

// Route is one walk along the stops of a link.
type Route struct {
	Link string `json:"link"`
	// At is when it was tried; zero for a check of the plan.
	At    time.Time `json:"at,omitzero"`
	Bench bool      `json:"bench"`
	Stops []Check   `json:"stops"`
	// StopsAt is the first stop with a fault, or nil.
	StopsAt  *Stop  `json:"stopsAt"`
	Identity string `json:"identity,omitempty"`
	// Unticked are lines of the device's access checklist that would explain
	// the fault and that nobody has seen to.
	Unticked []site.AccessLine `json:"unticked,omitempty"`
	// Ask are settings of the answering end that nobody knows and that would
	// decide something, in words.
	Ask      []string `json:"ask,omitempty"`
	Requests int      `json:"requests"`
	// Explained are the kinds of access that explain the refusal that stopped
	// it; empty where no refusal tells.
	Explained []string `json:"-"`
}

// New returns a route with every stop not tried.
func New(link string) *Route {
	r := &Route{Link: link}
	for _, stop := range Stops() {
		r.Stops = append(r.Stops, Check{Stop: stop, Result: NotTried})
	}
	return r
}

// Set records the result of a stop. The worst of several results stays.
func (r *Route) Set(stop Stop, result Result, saw, remedy string) {
	rank := map[Result]int{NotTried: 0, Good: 1, Doubt: 2, Fault: 3}
	for i := range r.Stops {
		c := &r.Stops[i]
		if c.Stop != stop || rank[result] < rank[c.Result] {
			continue
		}
		c.Result, c.Saw, c.Remedy = result, saw, remedy
		if result == Fault && r.StopsAt == nil {
			at := stop
			r.StopsAt = &at
		}
	}
}

// Host judges the address of a device on a line from the plan: whether it has
// one, whether that lies in the line's network and can be a host there, and
// whether another device has it too.
func Host(s *site.Site, line *site.Line, d *site.Device) (Result, string) {
	port := d.Port(line.ID)
	if port == nil {
		return Fault, fmt.Sprintf("%s has no port on %s", d.Name, line.Name)
	}
	if port.HostFrom != "" {
		if of, point := s.Point(port.HostFrom); point != nil {
			return Good, fmt.Sprintf("%s has the address that %s · %s gives", d.Name, of.Name, point.Name)
		}
	}
	host, err := netip.ParseAddr(port.Host)
	if err != nil && port.Host != "" {
		return Good, fmt.Sprintf("%s is the machine named %s, wherever that is", d.Name, port.Host)
	}
	if err != nil {
		return Fault, fmt.Sprintf("%s has no IP address on %s", d.Name, line.Name)
	}
	for i := range s.Devices {
		other := &s.Devices[i]
		if p := other.Port(line.ID); p != nil && other.ID != d.ID && p.Host == port.Host {
			return Fault, fmt.Sprintf("%s and %s both have %s", d.Name, other.Name, port.Host)
		}
	}
	network, err := netip.ParsePrefix(line.Network)
	if err != nil {
		return Good, fmt.Sprintf("%s is %s; %s has no network to compare it with", d.Name, port.Host, line.Name)
	}
	network = network.Masked()
	switch {
	case !network.Contains(host):
		return Fault, fmt.Sprintf("%s has %s, which is outside %s", d.Name, port.Host, network)
	case host.Is4() && network.Bits() < 31 && host == network.Addr():
		return Fault, fmt.Sprintf("%s has %s, which is the network itself", d.Name, port.Host)
	case host.Is4() && network.Bits() < 31 && host == broadcast(network):
		return Fault, fmt.Sprintf("%s has %s, which is the broadcast address of %s", d.Name, port.Host, network)
	}
	return Good, fmt.Sprintf("%s is in %s", port.Host, network)
}

func broadcast(p netip.Prefix) netip.Addr {
	b := p.Addr().As4()
	for i := p.Bits(); i < 32; i++ {
		b[i/8] |= 1 << (7 - i%8)
	}
	return netip.AddrFrom4(b)
}

// Plan checks the stops of a link from the plan. A stop that only a try can
// tell stays not tried.
func Plan(s *site.Site, link *site.Link) *Route {
	r := New(link.ID)
	line, asking, answering := s.Line(link.Line), s.Device(link.Asking), s.Device(link.Answering)
	def, ok := protocol.Named(link.Protocol)
	if line == nil || asking == nil || answering == nil || !ok {
		r.Set(Wire, Fault, "The link has lost one of its ends.", "Remove it and draw it anew.")
		return r
	}
	if line.Medium != site.SerialLine {
		for _, d := range []*site.Device{answering, asking} {
			if result, saw := Host(s, line, d); result != Good {
				r.Set(Wire, result, saw+".", "Correct the address in the device and here, then try again.")
			}
		}
	} else if result, saw, remedy := SerialPort(s, line, link); result != Good {
		r.Set(Wire, result, saw, remedy)
	}
	for _, row := range FaceToFace(s, link) {
		stop := Stop(row.Stop)
		if setting, known := def.Setting(row.Key); known {
			stop = Stop(setting.Stop)
		}
		if stop != "" && (row.Result == Fault || row.Result == Doubt) {
			r.Set(stop, row.Result,
				fmt.Sprintf("%s: the asking end has %s, the answering end %s. Then %s.", row.Title, row.Asking,
					row.Answering, row.Symptom),
				"Set both ends alike.")
		}
	}
	if f := Facing(s, link); f != nil && f.Refused != nil {
		remedy := "Put it right at one end."
		if len(f.Fixes) > 0 {
			remedy = f.Fixes[0].Title + ", " + f.Fixes[0].Detail + "."
		}
		r.Set(Session, Fault, fmt.Sprintf("%s will refuse this. %s It answers %s, status %s.", answering.Name, f.Refused.Says,
			f.Refused.Title, f.Refused.Shown), remedy)
	}
	return r
}

// explaining says which kinds of access explain that a message stops.
var explaining = map[Stop][]site.AccessKind{
	Wire:    {site.AccessFirewall, site.AccessRestart},
	Address: {site.AccessServer, site.AccessFirewall, site.AccessRestart, site.AccessMode},
	Session: {site.AccessRemote, site.AccessServer, site.AccessMode, site.AccessRestart},
	Points:  {site.AccessLayout, site.AccessRemote, site.AccessMode, site.AccessWrite},
	Pace:    {site.AccessMode},
}

// Explain adds to what stops a message the access lines of the device that
// nobody has ticked and that would explain it, and the settings that somebody
// should look up.
func (r *Route) Explain(s *site.Site, link *site.Link) {
	device := s.Device(link.Answering)
	if r.StopsAt == nil || device == nil {
		return
	}
	kinds := explaining[*r.StopsAt]
	if len(r.Explained) > 0 {
		kinds = nil
		for _, kind := range r.Explained {
			kinds = append(kinds, site.AccessKind(kind))
		}
	}
	r.Unticked = s.Unticked(device, kinds...)
	for _, row := range FaceToFace(s, link) {
		if row.Answering == unknown && row.Key != "terminated" {
			r.Ask = append(r.Ask, row.Title)
		}
	}
}

// Findings turns what stopped a message, or nearly did, into findings.
func (r *Route) Findings(s *site.Site, link *site.Link) []finding.Finding {
	device := s.Device(link.Answering)
	var list []finding.Finding
	for _, c := range r.Stops {
		if device == nil || (c.Result != Fault && c.Result != Doubt) {
			continue
		}
		f := finding.Finding{Code: "route-" + string(c.Stop), Severity: finding.Doubt, Sure: 1, Count: 1,
			Where:   "lines",
			Subject: finding.Subject{Kind: "link", ID: link.ID, Device: device.ID, Name: device.Name},
			Title:   fmt.Sprintf("%s: doubt at %s", device.Name, c.Stop), Sentence: c.Saw, Evidence: []string{},
			Remedy: c.Remedy}
		if c.Result == Fault {
			f.Severity, f.Title = finding.Fault, fmt.Sprintf("%s: the message stops at %s", device.Name, c.Stop)
		}
		list = append(list, f)
	}
	return list
}
