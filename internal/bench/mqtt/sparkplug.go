package mqtt

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	server "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/packets"

	"ferry/internal/bench"
	family "ferry/internal/core/family/mqtt"
	"ferry/internal/core/value"
	wire "ferry/internal/wire/mqtt"
)

func init() { bench.Register(family.Sparkplug.Name, sparkSpeech{}) }

// sparkSpeech is a broker with edge nodes of others on it, which have what the map of
// the device has as only to be read.
type sparkSpeech struct{ speech }

func (sparkSpeech) Faults() []bench.FaultKind {
	tcp := []bench.Place{bench.OverTCP}
	return append(brokerFaults(),
		bench.FaultKind{Kind: "gap", Title: "messages of its nodes are missing", Places: tcp},
		bench.FaultKind{Kind: "unborn", Title: "its nodes send data before their births, and are not born again",
			Places: tcp},
		bench.FaultKind{Kind: "clock", Title: "the clock of its nodes is two hours ahead", Places: tcp},
		bench.FaultKind{Kind: "death", Title: "its nodes have died", Places: tcp},
		bench.FaultKind{Kind: "hostless", Title: "the host that nodes wait for is not there", Places: tcp})
}

func (sparkSpeech) Host(of *bench.Simulated, fault func() bench.Fault) (bench.Host, error) {
	b, err := begin(of, fault)
	if err != nil {
		return nil, err
	}
	nodes := &edge{broker: b, nodes: map[string]*edgeNode{}, hosts: map[string]string{}}
	b.sought = nodes.seek
	if err := b.server.Subscribe("spBv1.0/+/NCMD/+", 1, nodes.commanded); err != nil {
		return nil, err
	}
	b.others.Go(nodes.live)
	return b, nil
}

// edge are the nodes on a broker of the bench.
type edge struct {
	*broker
	mu    sync.Mutex
	nodes map[string]*edgeNode // by group and node
	hosts map[string]string    // that somebody waits for, and what they said last
}

// stateTopics begins the topics at which hosts tell their state.
const stateTopics = "spBv1.0/STATE/"

// seek has a host there for whoever waits for one.
func (e *edge) seek(filter string) {
	if host, is := strings.CutPrefix(filter, stateTopics); is && !strings.ContainsAny(host, "+#") {
		e.mu.Lock()
		defer e.mu.Unlock()
		e.hosts[host] += ""
	}
}

// states has the hosts that somebody waits for tell that they are there, or go.
func (e *edge) states() {
	e.mu.Lock()
	defer e.mu.Unlock()
	for host, said := range e.hosts {
		says := map[bool]string{true: "false", false: "true"}[e.fault().Kind == "hostless"]
		if says == said {
			continue
		}
		e.hosts[host] = says
		payload := fmt.Sprintf(`{"online":%s,"timestamp":%d}`, says, time.Now().UnixMilli())
		_ = e.server.Publish(stateTopics+host, []byte(payload), true, 1) // nobody need be there
	}
}

// edgeNode is one of them.
type edgeNode struct {
	at      family.Metric
	metrics []family.Metric // by their aliases, from 1
	seq     uint64
	born    bool
	dead    bool
}

// live has the nodes born, and tells what their metrics are once a second.
func (e *edge) live() {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		e.states()
		e.beat()
		e.takeOver()
		select {
		case <-tick.C:
		case <-e.done:
			return
		}
	}
}

func (e *edge) beat() {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, held := range e.of.Memory.Held() {
		if held.Writable {
			continue
		}
		m := family.MetricOf(held.Address)
		key := m.Group + "/" + m.Node
		n := e.nodes[key]
		if n == nil {
			n = &edgeNode{at: family.Metric{Group: m.Group, Node: m.Node}}
			e.nodes[key] = n
		}
		if !slices.Contains(n.metrics, m) {
			n.metrics, n.born = append(n.metrics, m), false
		}
	}
	for _, n := range e.nodes {
		switch kind := e.fault().Kind; {
		case kind == "death":
			if !n.dead {
				n.dead, n.born = true, false
				e.send(n.at.Topic("NDEATH"), &wire.Payload{Metrics: []wire.Metric{bdSeq()}})
			}
			continue
		case kind != "unborn" && !n.born:
			e.bear(n)
		case kind == "gap":
			n.seq++
		}
		n.dead = false
		for _, device := range n.devices() {
			e.tell(n, device, map[bool]string{true: "NDATA", false: "DDATA"}[device == ""], false)
		}
	}
}

func bdSeq() wire.Metric {
	return wire.Metric{Name: "bdSeq", Type: wire.Int64, Value: value.OfInt(0), Quality: -1}
}

func (e *edge) bear(n *edgeNode) {
	n.seq, n.born = 0, true
	e.tell(n, "", "NBIRTH", true)
	for _, device := range n.devices() {
		if device != "" {
			e.tell(n, device, "DBIRTH", true)
		}
	}
}

// devices are those of a node that have metrics; empty for the node itself.
func (n *edgeNode) devices() (list []string) {
	for _, m := range n.metrics {
		if !slices.Contains(list, m.Device) {
			list = append(list, m.Device)
		}
	}
	return list
}

// tell sends what the metrics of a device are, with their names in a birth.
func (e *edge) tell(n *edgeNode, device, kind string, birth bool) {
	p := &wire.Payload{Seq: n.seq % 256, HasSeq: true}
	n.seq++
	if kind == "NBIRTH" {
		p.Metrics = append(p.Metrics, bdSeq())
	}
	now := uint64(time.Now().UnixMilli())
	if e.fault().Kind == "clock" {
		now += 2 * 3600 * 1000
	}
	for _, held := range e.of.Memory.Held() {
		m := family.MetricOf(held.Address)
		if held.Writable || m.Device != device || m.Group != n.at.Group || m.Node != n.at.Node {
			continue
		}
		v, ok := e.of.Memory.Value(held.Address)
		metric := wire.Metric{Alias: uint64(slices.Index(n.metrics, m) + 1), HasAlias: true, Type: typeOf(held.Shape.Type),
			Value: v, Null: !ok, Time: now, Quality: -1}
		if birth {
			metric.Name = m.Name
		}
		p.Metrics = append(p.Metrics, metric)
	}
	at := n.at
	at.Device = device
	e.send(at.Topic(kind), p)
}

func (e *edge) send(topic string, p *wire.Payload) {
	p.Time = uint64(time.Now().UnixMilli())
	_ = e.server.Publish(topic, wire.AppendPayload(nil, p), false, 0) // nobody need be there
}

// commanded has a node born again that is told so.
func (e *edge) commanded(_ *server.Client, _ packets.Subscription, pk packets.Packet) {
	p, err := wire.ParsePayload(pk.Payload)
	parts := strings.Split(pk.TopicName, "/")
	if err != nil || len(parts) != 4 || e.fault().Kind == "unborn" || e.fault().Kind == "death" {
		return
	}
	for i := range p.Metrics {
		if m := &p.Metrics[i]; m.Name == "Node Control/Rebirth" && m.Value.Bool() {
			go func() { // the broker waits for this to end
				e.mu.Lock()
				defer e.mu.Unlock()
				if n := e.nodes[parts[1]+"/"+parts[3]]; n != nil {
					e.bear(n)
				}
			}()
		}
	}
}

// typeOf is the data type in which the bench holds a type.
func typeOf(t value.Type) wire.Type {
	switch {
	case t == value.TypeBool:
		return wire.Boolean
	case t.IsText():
		return wire.String
	case t.IsTime():
		return wire.DateTime
	case t == value.TypeFloat32:
		return wire.Float
	case t.IsWhole():
		return wire.Int64
	}
	return wire.Double
}
