package mqtt

import (
	"context"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/mqtt"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/field"
	wire "ferry/internal/wire/mqtt"
)

func init() { field.Register(family.Sparkplug.Name, sparkDriver{}) }

// sparkDriver speaks Sparkplug B: as an edge node, and as a host that listens to others.
type sparkDriver struct{ driver }

func (sparkDriver) Dial(ctx context.Context, t field.Target) (field.Conn, field.Reply) {
	def := family.Sparkplug
	base := newConn(ctx, def, &t)
	c := &spark{conn: base, own: map[family.Metric]*metric{}, others: map[string]*node{},
		group: def.Value(t.Settings, family.KeyGroup).Text(), node: def.Value(t.Settings, family.KeyNode).Text()}
	s := &session{came: c.came, lost: base.lost, over: base.socket}
	c.hosts(s)
	if why := c.role(); why != "" {
		return nil, field.Reply{Outcome: exchange.NotAllowed, Stop: route.Session, Sentence: why}
	}
	if c.group != "" && c.node != "" {
		c.bdSeq = nextBirth(c.group + "/" + c.node)
		s.will = &message{c.me("NDEATH"), wire.AppendPayload(nil, c.death()), 1, false}
		base.farewell = func() { // an orderly end sends no will
			if c.born.Load() {
				_, _ = c.send(c.me("NDEATH"), c.death(), 1) // a courtesy: the end of the session says the same
			}
		}
	}
	var reply field.Reply
	if base.client, reply = begin(ctx, &t, def, s); base.client == nil {
		return nil, reply
	}
	base.stop = context.AfterFunc(ctx, base.bye)
	return c, reply
}

// spark is a session of Sparkplug B.
type spark struct {
	*conn
	group, node string // of the edge node that Ferry is; empty for none
	bdSeq       uint64
	host        string // that Ferry is; empty for none
	since       uint64 // milliseconds since 1970
	primary     string // the host before which the node is not born; empty for none

	state  sync.Mutex // of what follows, and the order of what is sent
	seq    uint64
	born   atomic.Bool
	own    map[family.Metric]*metric
	order  []family.Metric // of own, by their aliases
	others map[string]*node
	points map[family.Metric][]protocol.Wanted
	nodes  map[string]bool // of the points that are wanted
	// listing is set while all nodes are heard.
	listing bool
	takes   func(point string) bool // commands for which points are taken; nil for none
	// following is set once it is known what is born; told once the host has said that it
	// is there.
	following, told bool
	primaryOn       bool
	primaryAt       uint64 // of what the host that is waited for said last
}

// OnCommand says for which of Ferry's own points commands are taken.
func (c *spark) OnCommand(takes func(point string) bool) {
	c.state.Lock()
	defer c.state.Unlock()
	c.takes = takes
}

// me is a topic of Ferry's own edge node.
func (c *spark) me(kind string) string {
	return family.Metric{Group: c.group, Node: c.node}.Topic(kind)
}

func millis(t time.Time) uint64 { return uint64(max(0, t.UnixMilli())) }

// send publishes a payload.
func (c *spark) send(topic string, p *wire.Payload, qos byte) (int, error) {
	ctx, cancel := context.WithTimeout(context.Background(), c.within)
	defer cancel()
	return c.client.publish(ctx, &message{topic, wire.AppendPayload(nil, p), qos, false})
}

// Follow says which points are wanted: those of Ferry's own node are born, those of
// others are listened to.
func (c *spark) Follow(wanted []protocol.Wanted) (field.Reply, []field.Refusal) {
	c.socket.tell()
	reply, refused := c.begin(wanted)
	c.socket.witnessed(&reply)
	return reply, refused
}

// begin subscribes, and says that Ferry's own node, or the host that it is, is there.
func (c *spark) begin(wanted []protocol.Wanted) (field.Reply, []field.Refusal) {
	topics := map[string]bool{}
	c.state.Lock()
	c.points, c.nodes = map[family.Metric][]protocol.Wanted{}, map[string]bool{}
	for _, w := range wanted {
		m := family.MetricOf(w.Address)
		c.points[m] = append(c.points[m], w)
		c.nodes[m.Group+"/"+m.Node] = true
		if c.isOwn(m) {
			c.owns(m, w.Shape)
		}
		topics["spBv1.0/"+m.Group+"/+/"+m.Node] = true
		topics["spBv1.0/"+m.Group+"/+/"+m.Node+"/+"] = true
	}
	if c.group != "" {
		topics[c.me("NCMD")], topics[c.me("DCMD")+"/+"] = true, true
	}
	for _, topic := range c.stateTopics() {
		topics[topic] = true
	}
	c.state.Unlock() // what comes meanwhile is taken in
	for batch := range slices.Chunk(slices.Sorted(maps.Keys(topics)), atOnce) {
		ctx, cancel := context.WithTimeout(c.ctx, c.within)
		codes, err := c.client.subscribe(ctx, batch, 1)
		cancel()
		if err != nil {
			return c.failed(err), nil
		}
		for i, code := range codes {
			if code >= 0x80 {
				return field.Reply{Outcome: exchange.Declined, Code: code, Left: true,
					Sentence: "the broker refuses the subscription to " + batch[i] + ": " + family.Sparkplug.Decline(code).Title}, nil
			}
		}
	}
	c.state.Lock()
	defer c.state.Unlock()
	c.following = true
	code, err := 0, error(nil)
	if c.waits() == nil {
		code, err = c.bear()
	}
	if c.host != "" && err == nil && code < 0x80 {
		code, err = c.announce(true)
		c.told = true
	}
	switch {
	case err != nil:
		return c.failed(err), nil
	case code >= 0x80:
		return field.Reply{Outcome: exchange.Declined, Code: code, Left: true,
			Sentence: "the broker refuses what is said at the start: " + family.Sparkplug.Decline(code).Title}, nil
	}
	for key := range c.nodes { // whose birth was before this session
		if key != c.group+"/"+c.node {
			c.askBirth(key)
		}
	}
	return field.Reply{Outcome: exchange.Answered, Left: true}, nil
}

// came takes in a message.
func (c *spark) came(m message) {
	report := field.Report{At: time.Now()}
	from := 0
	report.Octets, from = c.socket.message(m.payload)
	if host, is := wire.HostOfState(m.topic); is {
		report.Operation = "state of " + host
		c.handReport(report)
		c.stated(host, m.payload)
		return
	}
	parts := strings.Split(m.topic, "/")
	if len(parts) < 4 || len(parts) > 5 || parts[0] != "spBv1.0" {
		return
	}
	at := family.Metric{Group: parts[1], Node: parts[3]}
	kind := parts[2]
	if len(parts) == 5 {
		at.Device = parts[4]
	}
	report.Operation = kind + " of " + strings.Join(parts[3:], "/")
	p, err := wire.ParsePayload(m.payload)
	c.state.Lock()
	if err != nil {
		c.spoil(&report, at, at.Device != "", "its payload is none of Sparkplug B: "+err.Error())
	} else {
		c.take(kind, at, &p, &report)
	}
	c.state.Unlock()
	for i := range report.Samples {
		report.Samples[i].From, report.Samples[i].To = from, len(report.Octets)
	}
	c.handReport(report)
}
