package iec61850

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/iec61850"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	"ferry/internal/field"
	wire "ferry/internal/wire/iec61850"
)

// following is what a server was asked to tell of. It is made whole and then not changed.
type following struct {
	wanted []protocol.Wanted
	// reports are the control blocks that were enabled, by the identity that their reports bear.
	reports map[string]*block
	// polled are the points that no report brings.
	polled []protocol.Wanted
}

// block is a report control block that was enabled.
type block struct {
	name    wire.Name
	members []wire.Name
	// places are the points of each member.
	places [][]told
}

// told is a point of a member.
type told struct {
	id string
	place
	// inside leads from the member to what the place is read as.
	inside []int
}

// Follow enables the reports that bring what is wanted, and polls the rest.
func (c *conn) Follow(wanted []protocol.Wanted) (reply field.Reply, refused []field.Refusal) {
	reply = c.owned(func() (reply field.Reply) {
		f := &following{wanted: wanted, reports: map[string]*block{}}
		c.mu.Lock()
		old := c.follows
		c.follows = nil
		c.mu.Unlock()
		if old != nil {
			for _, b := range old.reports {
				c.put(b.name, "RptEna", wire.Data{Kind: family.Boolean}) // another connection ends it, too
			}
		}
		if len(wanted) == 0 {
			_, reply = c.ask(wire.Identify, nil)
			return reply
		}
		open := map[wire.Name][]told{} // by what they are read as
		for _, w := range wanted {
			p, reply := c.placeOf(w.Address)
			switch {
			case reply.OK():
				open[p.name] = append(open[p.name], told{id: w.ID, place: p})
				f.polled = append(f.polled, w)
			case reply.Outcome == exchange.Declined:
				refused = append(refused, field.Refusal{ID: w.ID, Code: reply.Code, Sentence: reply.Sentence})
			default:
				return reply
			}
		}
		// What stands there is read first: a report that is older than it would take its place otherwise.
		samples, reply := c.items(slices.DeleteFunc(slices.Clone(wanted), func(w protocol.Wanted) bool {
			return slices.ContainsFunc(refused, func(r field.Refusal) bool { return r.ID == w.ID })
		}))
		if !reply.OK() {
			return reply
		}
		for _, s := range samples {
			if s.Code != 0 {
				refused = append(refused, field.Refusal{ID: s.ID, Code: s.Code, Sentence: s.Reason})
			}
		}
		c.hand(field.Report{At: time.Now(), Operation: "read all", Samples: slices.DeleteFunc(samples,
			func(s field.Sampled) bool { return s.Code != 0 }), Own: true})
		how := family.MMS.Value(c.settings, family.KeyReports).Text()
		if how != family.ReportsNone && !c.trial {
			if reply = c.enable(f, open, how == family.ReportsBuffered); !reply.OK() {
				return reply
			}
		}
		c.mu.Lock()
		c.follows = f
		c.mu.Unlock()
		return reply
	})
	return reply, refused
}

// enable finds the report control blocks whose data sets have what is wanted, and enables so many that
// each is brought by one.
func (c *conn) enable(f *following, open map[wire.Name][]told, buffered bool) field.Reply {
	for _, d := range c.domains {
		if !slices.ContainsFunc(keysOf(open), func(n wire.Name) bool { return n.Domain == d }) {
			continue
		}
		items, reply := c.names(wire.Variables, d)
		if !reply.OK() {
			return reply
		}
		for _, fc := range []string{"BR", "RP"} {
			if fc == "BR" && !buffered {
				continue
			}
			for _, item := range items {
				parts := strings.Split(item, "$")
				if len(parts) != 3 || parts[1] != fc || len(open) == 0 {
					continue
				}
				b, reply := c.blockOf(wire.Name{Domain: d, Item: item}, open)
				if b == nil {
					if reply.Outcome == exchange.NoAnswer || !c.Usable() {
						return reply
					}
					continue
				}
				id, ok := c.begins(b, fc == "BR", f.reports)
				if !ok {
					continue // another has it: the next instance may be free
				}
				f.reports[id] = b
				for _, places := range b.places {
					for _, p := range places {
						delete(open, p.place.name)
						f.polled = slices.DeleteFunc(f.polled, func(w protocol.Wanted) bool { return w.ID == p.id })
					}
				}
			}
		}
	}
	return field.Reply{Outcome: exchange.Answered}
}

func keysOf[V any](m map[wire.Name]V) (list []wire.Name) {
	for n := range m {
		list = append(list, n)
	}
	return list
}

// blockOf is a report control block with the points that it brings; nil where it brings none.
func (c *conn) blockOf(name wire.Name, open map[wire.Name][]told) (*block, field.Reply) {
	results, _, reply := c.readAll([]wire.Name{{Domain: name.Domain, Item: name.Item + "$DatSet"},
		{Domain: name.Domain, Item: name.Item + "$RptEna"}})
	if !reply.OK() || results[0].Refused >= 0 || results[1].Data.Int != 0 {
		return nil, reply
	}
	domain, set, found := strings.Cut(results[0].Data.Text, "/")
	if !found {
		return nil, reply
	}
	m, reply := c.ask(wire.GetMembersOf, wire.MembersOf(wire.Name{Domain: domain, Item: set}))
	if !reply.OK() {
		return nil, reply
	}
	b := &block{name: name}
	var err error
	if b.members, err = wire.ReadMembers(m.Body); err != nil {
		return nil, garbled(reply, err)
	}
	brings := false
	b.places = make([][]told, len(b.members))
	for i, member := range b.members {
		for read, points := range open {
			if read.Domain != member.Domain {
				continue
			}
			if read == member {
				b.places[i] = append(b.places[i], points...)
				brings = true
				continue
			}
			if rest, inside := strings.CutPrefix(read.Item, member.Item+"$"); inside {
				way, ok := c.wayTo(member, strings.Split(rest, "$"))
				for _, p := range points {
					if p.inside = way; ok {
						b.places[i] = append(b.places[i], p)
						brings = true
					}
				}
			} else if rest, part := strings.CutPrefix(member.Item, read.Item+"$"); part {
				for _, p := range points { // the value alone, without what goes with it
					if rest == strings.Join(p.ref.Path[len(p.ref.Path)-len(strings.Split(rest, "$")):], "$") {
						p.way, p.quality, p.time = nil, nil, nil
						b.places[i] = append(b.places[i], p)
						brings = true
					}
				}
			}
		}
	}
	if !brings {
		return nil, reply
	}
	return b, reply
}

// wayTo leads from a variable to a part of it.
func (c *conn) wayTo(n wire.Name, path []string) (way []int, ok bool) {
	t, reply := c.typeOf(n)
	if !reply.OK() {
		return nil, false
	}
	for _, name := range path {
		part, at := partOf(t, name)
		if part == nil {
			return nil, false
		}
		way, t = append(way, at), part
	}
	return way, true
}

// Options and triggers that Ferry asks for, as bits: number, time, reason, data set, overflow, entry,
// revision; changes of data and quality, in periods, and on inquiry.
const (
	optionsAsked  = 1<<1 | 1<<2 | 1<<3 | 1<<4 | 1<<6 | 1<<7 | 1<<8
	triggersAsked = 1<<1 | 1<<2 | 1<<4 | 1<<5
)

// begins enables a report control block; id is what its reports bear.
func (c *conn) begins(b *block, buffered bool, others map[string]*block) (id string, ok bool) {
	results, _, reply := c.readAll([]wire.Name{{Domain: b.name.Domain, Item: b.name.Item + "$RptID"}})
	if !reply.OK() || results[0].Refused >= 0 {
		return "", false
	}
	if id = results[0].Data.Text; id == "" || others[id] != nil {
		id = b.name.Domain + "/" + b.name.Item // two of one identity could not be told apart
		if !c.put(b.name, "RptID", wire.Data{Kind: family.VisibleString, Text: id}) {
			return "", false
		}
	}
	if !buffered && !c.put(b.name, "Resv", wire.Data{Kind: family.Boolean, Int: 1}) {
		return "", false
	}
	options := uint64(optionsAsked)
	if !buffered {
		options &^= 1<<6 | 1<<7
	}
	if !c.put(b.name, "OptFlds", wire.Data{Kind: family.BitString, Bits: options, Size: 10}) ||
		!c.put(b.name, "TrgOps", wire.Data{Kind: family.BitString, Bits: triggersAsked, Size: 6}) {
		return "", false
	}
	if kept, known := c.kept(b.name); buffered && known { // from what came last over the connection before
		c.put(b.name, "EntryID", wire.Data{Kind: family.OctetString, Text: kept}) // one that is gone there is not taken
	}
	c.mu.Lock()
	if c.follows == nil {
		c.follows = &following{reports: map[string]*block{}}
	}
	c.follows.reports[id] = b // reports come as soon as it is enabled
	c.mu.Unlock()
	if !c.put(b.name, "RptEna", wire.Data{Kind: family.Boolean, Int: 1}) {
		return "", false
	}
	c.put(b.name, "GI", wire.Data{Kind: family.Boolean, Int: 1}) // what it does not tell so is read
	return id, true
}

// kept is the last entry of a report that came, in the connections before, too.
func (c *conn) kept(n wire.Name) (string, bool) {
	if c.remains == nil {
		return "", false
	}
	v, ok := c.remains.Load(n)
	text, _ := v.(string)
	return text, ok
}

// put writes a member of a control block.
func (c *conn) put(n wire.Name, member string, d wire.Data) bool {
	m, reply := c.ask(wire.Write, wire.WriteOf([]wire.Name{{Domain: n.Domain, Item: n.Item + "$" + member}},
		[]wire.Data{d}))
	if !reply.OK() {
		return false
	}
	list, err := wire.ReadWritten(m.Body)
	return err == nil && len(list) == 1 && list[0] < 0
}

// reported takes in what the server sent by itself.
func (c *conn) reported(m *wire.Message, at time.Time, octets []byte) {
	names, values, err := wire.ReadReport(m.Body, 0)
	report := field.Report{At: at, Operation: "report", Octets: octets}
	switch {
	case err != nil:
		report.Wrong = err.Error()
	case len(names) == 1 && names[0].Item == "RPT" && names[0].Domain == "":
		c.told(&report, values)
	default:
		c.operated(names, values)
		report.Operation, report.Aside = "end of a command", true
		report.Frames = []exchange.Frame{{Octets: octets}}
	}
	c.hand(report)
}

// told takes a report apart (IEC 61850-8-1, clause 17.2.3).
func (c *conn) told(report *field.Report, values []wire.Result) {
	next := func() (d *wire.Data) {
		if len(values) == 0 {
			report.Wrong = "the report ends before its values"
			return &wire.Data{}
		}
		d, values = &values[0].Data, values[1:]
		return d
	}
	id, options := next().Text, next().Bits
	report.Operation = "report " + id
	var entry string
	for bit, into := range []*string{1: nil, 2: nil, 4: nil, 6: nil, 7: &entry, 8: nil} {
		if bit == 3 || bit == 5 || bit == 0 || options&(1<<bit) == 0 {
			continue
		}
		if d := next(); into != nil {
			*into = d.Text
		} else if bit == 6 && d.Int != 0 {
			report.Operation += ", values before it were lost"
		}
	}
	if options&(1<<9) != 0 { // in segments: a number and whether more follow
		next()
		next()
	}
	included := next()
	c.mu.Lock()
	var b *block
	if c.follows != nil {
		b = c.follows.reports[id]
	}
	c.mu.Unlock()
	if b == nil || included.Size != len(b.members) {
		if b != nil {
			report.Wrong = fmt.Sprintf("the report is of %d members, and the data set has %d", included.Size, len(b.members))
		}
		return
	}
	if options&(1<<5) != 0 {
		for i := range b.members {
			if included.Bit(i) {
				next()
			}
		}
	}
	for i := range b.members {
		if !included.Bit(i) || report.Wrong != "" {
			continue
		}
		d := next()
		for k := range b.places[i] {
			p := &b.places[i][k]
			inner := at(d, p.inside)
			if inner == nil {
				continue
			}
			s := p.sampled(p.id, inner)
			s.From, s.To = 0, 0
			if v := at(inner, p.way); v != nil {
				s.Words = v.Append(nil)
			}
			report.Samples = append(report.Samples, s)
		}
	}
	if entry != "" && c.remains != nil {
		c.remains.Store(b.name, entry)
	}
}

// polls reads what no report brings, and anything at all as a sign of life, until the connection ends.
func (c *conn) polls() {
	every := time.Duration(family.MMS.Int(c.settings, family.KeyPolled)) * time.Millisecond
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		select {
		case <-c.ended:
			return
		case <-c.life.Done():
			return
		case <-tick.C:
		}
		c.mu.Lock()
		f := c.follows
		c.mu.Unlock()
		if f == nil || f.wanted == nil || !c.turn.Hold(c.life, c.ended) {
			continue
		}
		report := field.Report{At: time.Now(), Operation: "sign of life"}
		var reply field.Reply
		if len(f.polled) > 0 {
			report.Operation = fmt.Sprintf("poll of %d attributes", len(f.polled))
			report.Samples, reply = c.items(f.polled)
			for i := range report.Samples {
				if s := &report.Samples[i]; s.Code != 0 {
					s.Quality = value.Bad
				}
			}
		} else {
			_, reply = c.ask(wire.Identify, nil)
		}
		c.turn.Release(&reply)
		if report.Frames = reply.Frames; !reply.OK() {
			if reply.Outcome == exchange.CalledOff || !c.Usable() {
				continue
			}
			report.Failed = &reply
		}
		c.hand(report)
	}
}
