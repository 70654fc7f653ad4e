package mqtt

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"strings"
	"unicode/utf8"

	"ferry/internal/core/address"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// Keys of settings of Sparkplug B, beside those of MQTT.
const (
	KeyGroup   = "group"
	KeyNode    = "node"
	KeyRebirth = "rebirth"
	KeyPrimary = "primaryHost"
	KeyHost    = "hostId"
)

// MetricSpace is the space of addresses that name a metric of Sparkplug B: of an edge
// node, "skerry/gateway:Uptime", or of a device of it, "skerry/gateway/do11:Oxygen".
const MetricSpace = "metric"

// Sparkplug is Sparkplug B, version 3.0 (ISO/IEC 20237), over MQTT.
var Sparkplug = &protocol.Def{
	Name: "sparkplug", Title: "Sparkplug B over MQTT", Asker: "edge node or host", Answerer: "broker", Medium: "ethernet",
	Example: "skerry/gateway/do11:Oxygen", Turns: protocol.TurnsOfLink, Scheme: metrics{}, Rules: sparkplugRules{},
	Settings: sparkplugSettings(),
}

func init() { protocol.Register(Sparkplug) }

// sparkplugSettings are those of MQTT that make sense, and the names of the edge node.
func sparkplugSettings() (list []protocol.Setting) {
	list = append(list,
		protocol.Setting{Key: KeyGroup, Title: "Group id", Kind: protocol.Text, End: protocol.Asking, Pattern: `[^/+#]*`,
			Like: "skerry", Help: "Of the edge node that Ferry is; empty where it only listens to others.", Stop: "points",
			Shows: "hosts do not find the node"},
		protocol.Setting{Key: KeyNode, Title: "Edge node id", Kind: protocol.Text, End: protocol.Asking, Pattern: `[^/+#]*`,
			Like: "gateway", Help: "Unique in its group: two nodes of one name throw each other's births away.",
			Stop: "points", Shows: "hosts do not find the node"},
		protocol.Setting{Key: KeyRebirth, Title: "Asks for births", Kind: protocol.Switch, End: protocol.Asking,
			Default: protocol.OfSwitch(true), Stop: "points",
			Help:  "A node whose birth was missed, or whose messages have a gap, is told to be born again, as hosts do.",
			Shows: "values of nodes that were born before are never known"})
	list = append(list,
		protocol.Setting{Key: KeyPrimary, Title: "Waits for host", Kind: protocol.Text, End: protocol.Asking,
			Pattern: `[^/+#]*`, Like: "skerry-shore", Stop: "points",
			Help:  "The primary host of the edge node that Ferry is: nothing is published unless it says that it is there.",
			Shows: "the node is born before anybody hears it, or never"},
		protocol.Setting{Key: KeyHost, Title: "Host id", Kind: protocol.Text, End: protocol.Asking, Pattern: `[^/+#]*`,
			Like: "skerry-shore", Stop: "points",
			Help:  "Of the host that Ferry is: edge nodes can wait for it. Empty where none does.",
			Shows: "nodes that wait for a host are never born"})
	for _, s := range TCP.Settings {
		switch s.Key {
		case KeyService, KeyRetain, KeyPayload, KeyWill, KeyWillText: // as the standard has them
		default:
			list = append(list, s)
		}
	}
	return list
}

// Metric is an address of Sparkplug B, taken apart. Device is empty for a metric of the
// node itself.
type Metric struct{ Group, Node, Device, Name string }

// MetricOf takes an address apart.
func MetricOf(a address.Address) (m Metric) {
	_, text, _ := a.Name()
	m, _ = parseMetric(text)
	return m
}

func parseMetric(text string) (m Metric, err error) {
	path, name, found := strings.Cut(text, ":")
	parts := strings.Split(path, "/")
	switch {
	case !found || name == "":
		return m, errors.New("the name of the metric is missing: write it as skerry/gateway/do11:Oxygen")
	case len(parts) < 2 || len(parts) > 3:
		return m, errors.New("before the colon stand group and edge node, and the device if it is of one: skerry/gateway/do11")
	case strings.ContainsAny(path, "+#") || strings.ContainsRune(text, 0) || !utf8.ValidString(text):
		return m, errors.New("+, # and the null character are in no id of a group, node or device")
	case len(text) > mostTopic:
		return m, fmt.Errorf("it has %d octets: %d are the most", len(text), mostTopic)
	}
	for _, part := range parts {
		if strings.TrimSpace(part) == "" {
			return m, errors.New("the id of a group, node or device is empty")
		}
	}
	m = Metric{Group: parts[0], Node: parts[1], Name: name}
	if len(parts) == 3 {
		m.Device = parts[2]
	}
	return m, nil
}

func (m Metric) String() string {
	path := m.Group + "/" + m.Node
	if m.Device != "" {
		path += "/" + m.Device
	}
	return path + ":" + m.Name
}

type metrics struct{}

func (metrics) Parse(text, _ string) (address.Address, error) {
	m, err := parseMetric(strings.TrimSpace(text))
	if err != nil {
		return address.Address{}, fmt.Errorf("address %s: %w", text, err)
	}
	return address.Named(MetricSpace, m.String()), nil
}

func (metrics) Short(a address.Address) string {
	_, name, _ := a.Name()
	return name
}

func (s metrics) Notations(a address.Address) []address.Notation {
	m := MetricOf(a)
	list := []address.Notation{{Name: "metric", Text: s.Short(a)}, {Name: "topic", Text: m.Topic("DDATA")}}
	if m.Device == "" {
		list[1].Text = m.Topic("NDATA")
	}
	return list
}

func (s metrics) Compare(a, b address.Address) int {
	return cmp.Or(cmp.Compare(s.Short(a), s.Short(b)), address.Compare(a, b))
}

func (s metrics) Check(a address.Address, shape value.Shape) error {
	space, name, ok := a.Name()
	if !ok || space != MetricSpace {
		return fmt.Errorf("address %s is no metric", a)
	}
	if shape.Type == value.TypeBits || shape.Type == value.TypeTime {
		return fmt.Errorf("a metric holds no %s: give it a whole number", shape.Type)
	}
	_, err := parseMetric(name)
	return err
}

// Topic is that of a message of a kind about a metric's node or device (clause 4.1).
func (m Metric) Topic(kind string) string {
	topic := "spBv1.0/" + m.Group + "/" + kind + "/" + m.Node
	if m.Device != "" && kind[0] == 'D' {
		topic += "/" + m.Device
	}
	return topic
}

// sparkplugRules are those of MQTT where nothing else is said.
type sparkplugRules struct{ rules }

// Expected: a change a second is assumed of each metric.
func (sparkplugRules) Expected(_ protocol.Settings, wanted []protocol.Wanted) []protocol.Load {
	load := protocol.Load{Title: "metrics", PeriodMs: 1000, Event: true}
	for _, w := range wanted {
		load.Octets += headOctets + len(MetricOf(w.Address).Topic("DDATA")) + 32
		load.Points = append(load.Points, w.ID)
	}
	return []protocol.Load{load}
}

// ToldAs: a message tells of many metrics at once, by numbers that its birth gave them.
func (sparkplugRules) ToldAs(address.Address) string { return "" }

func (sparkplugRules) Lapse(s protocol.Settings) protocol.Lapse {
	return protocol.Lapse{AfterMs: 1000 * Sparkplug.Int(s, KeySilence), Quality: value.Doubtful}
}

func (sparkplugRules) Writable(a address.Address) error {
	_, name, _ := a.Name()
	_, err := parseMetric(name)
	return err
}

func (sparkplugRules) WriteItem(address.Address) string { return "DATA or CMD" }

func (sparkplugRules) ItemBytes(a address.Address, _ value.Shape) (out, in int) {
	return headOctets/2 + len(MetricOf(a).Topic("DDATA")) + 32, headOctets / 2
}

// Second: a host that only listens.
func (sparkplugRules) Second(s protocol.Settings) protocol.Settings {
	second := maps.Clone(s)
	if second == nil {
		second = protocol.Settings{}
	}
	second[KeyClient] = protocol.OfText(Sparkplug.Value(s, KeyClient).Text() + "-witness")
	delete(second, KeyGroup)
	delete(second, KeyNode)
	delete(second, KeyHost)
	delete(second, KeyPrimary)
	return second
}

// Notes: a metric has a time, and its quality as a property.
func (sparkplugRules) Notes(protocol.Settings, address.Address) bool { return true }

// Listed is what births tell.
func (sparkplugRules) Listed() string { return "metrics" }
