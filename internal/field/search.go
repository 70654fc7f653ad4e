package field

import (
	"cmp"
	"context"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"ferry/internal/core/exchange"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
)

// stations asks one station of a serial line after the other, between two reads where
// the line is being asked.
func (r *sweepRun) stations(ctx context.Context, line *site.Line, def *protocol.Def) error {
	e, order := r.engine, &r.sweep.Order
	if line.Medium != site.SerialLine {
		return problem.New("bad-sweep", line.Name+" is no serial line.", "Sweep its addresses.").At(line.Name)
	}
	setting, ok := def.Setting(def.Station)
	if !ok {
		return problem.New("bad-sweep", def.Title+" has no stations.",
			"Choose another protocol of the line.").At(line.Name)
	}
	least := setting.Least
	if def.ToAll(protocol.Settings{def.Station: protocol.OfInt(least)}) {
		least++ // a question to all is no question to one
	}
	word := strings.ToLower(setting.Title)
	if order.FromStation < least || order.ToStation > setting.Most || order.FromStation > order.ToStation {
		return problem.New("bad-sweep", fmt.Sprintf("%ss %d to %d.", setting.Title, order.FromStation, order.ToStation),
			fmt.Sprintf("Give %ss from %d to %d.", word, least, setting.Most)).At(line.Name)
	}
	link := &site.Link{ID: "sweep-" + line.ID, Line: line.ID, Protocol: def.Name, Settings: protocol.Settings{}}
	planned := map[int]*site.Device{}
	for i := range e.site.Devices {
		d := &e.site.Devices[i]
		if p := d.Port(line.ID); p != nil && p.Protocol == def.Name {
			planned[def.Int(p.Settings, def.Station)] = d
		}
	}
	for i := range e.site.Links {
		if e.site.Links[i].Line == line.ID {
			link.Asking = e.site.Links[i].Asking
		}
	}
	target, key, err := e.targetOf(link)
	if err != nil {
		return err
	}
	over, era := e.channels[key], e.Hub.Era()
	var own *channel
	if over == nil {
		driver, _, _ := DriverOf(def.Name)
		own = newChannel(ctx, driver, target)
	}
	step := func(i int) (found Found, ok bool) {
		number := order.FromStation + i
		copied := *link
		copied.Settings = protocol.Settings{def.Station: protocol.OfInt(number),
			protocol.KeyWithin: protocol.OfInt(sweepLimitMs)}
		asker := &runner{link: &copied, device: &site.Device{ID: "sweep", Name: def.StationWords(copied.Settings)},
			def: def, hub: e.Hub, era: era}
		look := func(conn Conn, _ Reply) {
			if conn == nil {
				return
			}
			// One that the plan expects is not given up for one missed answer.
			if found, ok = lookAt(conn, number); (!ok && planned[number] != nil || found.Odd != "") && conn.Usable() {
				found, ok = lookAt(conn, number)
			}
		}
		if own != nil {
			own.do(ctx, asker, look)
		} else {
			_ = over.between(ctx, asker,
				func(_ *runner, conn Conn, reply Reply) { look(conn, reply) }) // one that is not asked is not found
		}
		if d := planned[number]; d != nil {
			found.Device = d.ID
		}
		return found, ok
	}
	r.start(ctx, order.ToStation-order.FromStation+1, 1, step, func(s *Sweep) {
		if own != nil {
			own.end()
			own.hangUp()
		}
		answered := map[string]bool{}
		strangers := 0
		for _, f := range s.Found {
			answered[f.Device] = true
			if f.Device == "" {
				strangers++
			}
		}
		for number := order.FromStation; number < order.FromStation+s.Done; number++ {
			if d := planned[number]; d != nil && !answered[d.ID] {
				s.Missing = append(s.Missing, d.ID)
			}
		}
		s.Sentence = fmt.Sprintf("%d %ss answer, %d of them not in the plan; %d that the plan expects do not.",
			len(s.Found), word, strangers, len(s.Missing))
	})
	return nil
}

// lookAt asks a station what any answers, if only by declining, and then who
// it is.
func lookAt(conn Conn, number int) (Found, bool) {
	began := time.Now()
	reply := greet(conn)
	found := Found{Station: number, Ms: float64(time.Since(began)) / 1e6}
	switch reply.Outcome {
	case exchange.Answered, exchange.Declined:
	case exchange.Garbled:
		found.Odd = reply.Sentence
		return found, true
	default:
		return found, false
	}
	if !conn.Usable() {
		return found, true
	}
	found.Identity, _, _ = identify(conn)
	return found, true
}

// hosts asks the addresses of a range at one port.
func (r *sweepRun) hosts(ctx context.Context, line *site.Line, def *protocol.Def) error {
	e, order := r.engine, &r.sweep.Order
	from, err := netip.ParseAddr(order.FromHost)
	to, err2 := netip.ParseAddr(order.ToHost)
	if err != nil || err2 != nil || !from.Is4() || !to.Is4() || to.Less(from) {
		return problem.New("bad-sweep", fmt.Sprintf("%q to %q is no range of IPv4 addresses.", order.FromHost,
			order.ToHost), "Write the first and the last, such as 192.0.2.20 and 192.0.2.60.").At(line.Name)
	}
	var hosts []netip.Addr
	for h := from; len(hosts) <= mostHosts && !to.Less(h); h = h.Next() {
		hosts = append(hosts, h)
	}
	if len(hosts) > mostHosts {
		return problem.New("bad-sweep", fmt.Sprintf("%s to %s are more than %d addresses.", from, to, mostHosts),
			"Sweep a smaller range.").At(line.Name)
	}
	asked := protocol.Settings{protocol.KeyPort: protocol.OfInt(order.Port), protocol.KeyWithin: protocol.OfInt(500)}
	if def.Station != "" {
		asked[def.Station] = protocol.OfInt(order.Station)
	}
	if err := def.CheckSettings(asked); err != nil {
		return problem.New("bad-sweep", err.Error()+".", "").At(line.Name)
	}
	planned := map[string]*site.Device{}
	for i := range e.site.Devices {
		if p := e.site.Devices[i].Port(line.ID); p != nil && p.Protocol != "" {
			planned[p.Host] = &e.site.Devices[i]
		}
	}
	for _, host := range hosts {
		if err := mayDial(host); err != nil && e.door.mode == Plant {
			return problem.New("documentation-address", err.Error()+".",
				"Give the plant's own addresses.").At(line.Name)
		}
	}
	driver, _, _ := DriverOf(def.Name)
	s, mode := e.site, e.door.mode
	step := func(i int) (Found, bool) {
		host := hosts[i].String()
		found := Found{Host: host, Port: order.Port, Station: order.Station}
		link := &site.Link{Line: line.ID, Protocol: def.Name, Settings: asked}
		if d := planned[host]; d != nil {
			found.Device, link.Answering = d.ID, d.ID
		}
		target := Target{Dial: net.JoinHostPort(host, strconv.Itoa(order.Port)), Settings: link.Settings,
			Control: MayDial}
		if mode == Bench {
			target.Dial, target.Control = e.standIns.Dial(s, link), nil
		}
		conn, reply := driver.Dial(ctx, target)
		if conn == nil {
			found.Odd = reply.Sentence
			return found, reply.Outcome == exchange.Refused && found.Device != "" || reply.Stop == route.Session
		}
		defer conn.Close()
		looked, ok := lookAt(conn, order.Station)
		found.Identity, found.Ms, found.Odd = looked.Identity, looked.Ms, looked.Odd
		if !ok {
			found.Odd = strings.TrimSpace("it takes the connection, and "+def.StationWords(link.Settings)) +
				" says nothing"
		}
		return found, true
	}
	r.start(ctx, len(hosts), atOnce, step, func(s *Sweep) {
		byHost(s.Found)
		answered := map[string]bool{}
		for _, f := range s.Found {
			answered[f.Host] = true
		}
		for _, h := range hosts[:s.Done] {
			if d := planned[h.String()]; d != nil && !answered[h.String()] {
				s.Missing = append(s.Missing, d.ID)
			}
		}
		s.Sentence = fmt.Sprintf("%d of %d addresses answer; %d devices that the plan expects do not.", len(s.Found),
			s.Done, len(s.Missing))
	})
	return nil
}

func byHost(found []Found) {
	slices.SortStableFunc(found, func(a, b Found) int {
		x, _ := netip.ParseAddr(a.Host)
		y, _ := netip.ParseAddr(b.Host)
		return x.Compare(y)
	})
}

// formats opens the port of a line in one usual format after the other, and
// asks one device in each.
func (r *sweepRun) formats(ctx context.Context, line *site.Line) error {
	e := r.engine
	link := e.site.Link(r.sweep.Order.Link)
	if link == nil || line.Medium != site.SerialLine || link.Line != line.ID {
		return problem.New("bad-sweep", "The link is not on a serial line.", "").At(line.Name)
	}
	target, key, err := e.targetOf(link)
	if err != nil {
		return err
	}
	if e.channels[key] != nil {
		return problem.New("running", line.Name+" is being asked: its settings cannot be changed meanwhile.",
			"Stop the run of its links first.").At(line.Name)
	}
	driver, def, err := DriverOf(link.Protocol)
	if err != nil {
		return problem.From(err, "protocol")
	}
	copied := *link
	copied.Settings = protocol.Settings{protocol.KeyWithin: def.Value(link.Settings, protocol.KeyWithin)}
	if def.Station != "" {
		copied.Settings[def.Station] = def.Value(link.Settings, def.Station)
	}
	who := begun(cmp.Or(def.StationWords(copied.Settings), "the device"))
	list := serial.Nearest(target.Format)
	var last string
	done := false // nothing more is asked once the device has answered
	step := func(i int) (Found, bool) {
		if done {
			return Found{}, false
		}
		target := target
		target.Format, target.Settings = list[i], copied.Settings
		conn, reply := driver.Dial(ctx, target)
		if conn == nil {
			last = reply.Sentence
			return Found{}, false
		}
		defer conn.Close()
		reply = greet(conn)
		if !reply.OK() && reply.Outcome != exchange.Declined {
			return Found{}, false
		}
		format := list[i]
		done = true
		return Found{Station: def.Int(copied.Settings, def.Station), Device: link.Answering, Format: &format}, true
	}
	r.start(ctx, len(list), 1, step, func(s *Sweep) {
		switch {
		case len(s.Found) == 0 && last != "":
			s.Sentence = sentence(last)
		case len(s.Found) == 0:
			s.Sentence = fmt.Sprintf("%s answers in none of the %d usual formats: it is off, or its number is another.",
				who, len(list))
		default:
			s.Sentence = fmt.Sprintf("%s answers at %s.", who, *s.Found[0].Format)
		}
	})
	return nil
}
