package mqtt

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// Keys of settings.
const (
	KeyVersion   = "version"
	KeyClient    = "client"
	KeyUser      = "user"
	KeyPassword  = "password"
	KeyTLS       = "tls"
	KeyAuthority = "authority"
	KeyCert      = "certificate"
	KeyKey       = "key"
	KeyAlive     = "keepAliveS"
	KeyService   = "qos"
	KeyRetain    = "retain"
	KeyPayload   = "payload"
	KeyWill      = "will"
	KeyWillText  = "willText"
	KeySilence   = "silentS"
)

// TCP is MQTT 3.1.1 and 5 over TCP (OASIS standards of 2014 and 2019).
var TCP = &protocol.Def{
	Name: "mqtt", Title: "MQTT", Asker: "client", Answerer: "broker", Medium: "ethernet",
	Example: "skerry/row-a/do11/oxygen", Turns: protocol.TurnsOfLink, Scheme: Scheme, Rules: rules{},
	Vocabulary: &protocol.Vocabulary{Headings: map[string][]string{"address": {"topic", "mqtttopic"}}},
	Settings: []protocol.Setting{
		{Key: protocol.KeyPort, Title: "TCP port", End: protocol.BothEnds, Default: protocol.OfInt(1883), Least: 1,
			Most: 65535,
			Help: "1883 is usual, 8883 with TLS.", Stop: "address", Shows: "the connection is refused"},
		{Key: KeyVersion, Title: "Version", Kind: protocol.Choice, End: protocol.Asking, Default: protocol.OfText("4"),
			Choices: []protocol.Option{{Value: "4", Title: "3.1.1"}, {Value: "5", Title: "5"}}, Stop: "session",
			Shows: "the broker refuses the protocol version"},
		{Key: KeyClient, Title: "Client id", Kind: protocol.Text, End: protocol.Asking,
			Default: protocol.OfText("ferry"), Least: 1,
			Most: 65535, Help: "Of two sessions with one client id the broker ends the older, again and again: give each its own.",
			Stop: "session", Shows: "another client with this id throws this one out"},
		{Key: KeyUser, Title: "User", Kind: protocol.Text, End: protocol.Asking, Stop: "session",
			Shows: "the broker refuses the user"},
		{Key: KeyPassword, Title: "Password", Kind: protocol.Secret, End: protocol.Asking, Stop: "session",
			Shows: "the broker refuses the user"},
		{Key: KeyTLS, Title: "TLS", Kind: protocol.Switch, End: protocol.BothEnds, Stop: "session",
			Shows: "the other end hangs up on what it does not understand"},
		{Key: KeyAuthority, Title: "Trusts", Kind: protocol.File, End: protocol.Asking, Stop: "session",
			Help:  "The certificate of the broker, or of who signed it, in PEM; without one, those that this machine trusts.",
			Shows: "the certificate is not trusted"},
		{Key: KeyCert, Title: "Own certificate", Kind: protocol.File, End: protocol.Asking, Stop: "session",
			Shows: "the broker wants one that it knows"},
		{Key: KeyKey, Title: "Key of it", Kind: protocol.Secret, End: protocol.Asking, Stop: "session",
			Shows: "the certificate cannot be used"},
		{Key: KeyAlive, Title: "Sign of life every", Unit: "s", End: protocol.Asking, Default: protocol.OfInt(30),
			Least: 1, Most: 65535,
			Stop: "pace", Shows: "a dead connection is found late"},
		{Key: KeyService, Title: "Quality of service", Kind: protocol.Choice, End: protocol.Asking,
			Default: protocol.OfText("1"),
			Choices: []protocol.Option{{Value: "0", Title: "0, at most once"}, {Value: "1", Title: "1, at least once"},
				{Value: "2", Title: "2, once"}}, Stop: "pace", Shows: "messages are lost, or come twice"},
		{Key: KeyRetain, Title: "Retained", Kind: protocol.Switch, End: protocol.Asking,
			Default: protocol.OfSwitch(true),
			Help:    "The broker keeps the last value for who subscribes later.", Stop: "points",
			Shows: "who comes later sees nothing until the next change"},
		{Key: KeyPayload, Title: "Payload", Kind: protocol.Choice, End: protocol.Asking,
			Default: protocol.OfText("plain"),
			Choices: []protocol.Option{{Value: "plain", Title: "the value alone"},
				{Value: "json", Title: "JSON with time, quality and unit"}}, Stop: "points", Shows: "the far side cannot read it"},
		{Key: KeyWill, Title: "Last will to", Kind: protocol.Text, End: protocol.Asking, Like: "skerry/gateway/state",
			Help: "A topic that the broker is to publish to when this client is gone without a word.", Stop: "session"},
		{Key: KeyWillText, Title: "Last will", Kind: protocol.Text, End: protocol.Asking,
			Default: protocol.OfText("offline"),
			Help:    "While the client is there, the topic says online.", Stop: "session"},
		{Key: KeySilence, Title: "Silent after", Unit: "s", End: protocol.Asking, Least: 0, Most: 86400,
			Help: "After how long without any message values are doubted; 0 for never, as where they come on change.",
			Stop: "pace"},
		{Key: protocol.KeyWithin, Title: "Answer within", Unit: "ms", End: protocol.Asking,
			Default: protocol.OfInt(3000), Least: 100,
			Most: 60000, Stop: "session", Shows: "a slow broker is taken for a dead one"},
	},
}

func init() { protocol.Register(TCP) }

type rules struct{}

// headOctets are those of the fixed head, the length of the topic and the packet
// identifier of a message (MQTT 3.1.1, clause 3.3), of its acknowledgement, and of
// IP and TCP under both.
const headOctets = 2 + 2 + 2 + 4 + 2*54

// Expected: a change a second is assumed of each point that is subscribed to.
func (rules) Expected(_ protocol.Settings, wanted []protocol.Wanted) []protocol.Load {
	load := protocol.Load{Title: "messages", PeriodMs: 1000, Event: true}
	for _, w := range wanted {
		load.Octets += headOctets + len(PlaceOf(w.Address).Topic) + 16
		load.Points = append(load.Points, w.ID)
	}
	return []protocol.Load{load}
}

func (rules) Lapse(s protocol.Settings) protocol.Lapse {
	return protocol.Lapse{AfterMs: 1000 * TCP.Int(s, KeySilence), Quality: value.Doubtful}
}

func (rules) Writable(a address.Address) error { return CheckTopic(PlaceOf(a).Topic) }

// CheckMessage: the topics of Sparkplug have a form of their own, which a text is not.
func (rules) CheckMessage(to string) error {
	if strings.HasPrefix(to, "spBv1.0/") || strings.HasPrefix(to, "$") {
		return errors.New("topics under spBv1.0 and $ hold no text: choose another")
	}
	return CheckTopic(to)
}

// IsOf: a place is all or a part of what one topic holds.
func (rules) IsOf(a address.Address, to string) bool {
	space, _, ok := a.Name()
	return ok && space == Space && PlaceOf(a).Topic == to
}

// Second: a session of its own, without a will.
func (rules) Second(s protocol.Settings) protocol.Settings {
	second := maps.Clone(s)
	if second == nil {
		second = protocol.Settings{}
	}
	second[KeyClient] = protocol.OfText(TCP.Value(s, KeyClient).Text() + "-witness")
	delete(second, KeyWill)
	return second
}

// Notes: an object holds what is beside a value, a payload of the value alone, or one
// of which a member is meant, does not.
func (rules) Notes(s protocol.Settings, a address.Address) bool {
	return TCP.Value(s, KeyPayload).Text() == "json" && len(PlaceOf(a).Path) == 0
}

func (rules) WriteItem(address.Address) string { return "PUBLISH" }

func (rules) ItemBytes(a address.Address, _ value.Shape) (out, in int) {
	return headOctets/2 + len(PlaceOf(a).Topic) + 16, headOctets / 2
}

// Listed is what the places of a broker are called that it can be asked to list.
func (rules) Listed() string { return "topics" }

// Codes lists the codes that have a name.
func (rules) Codes() []int { return slices.Collect(maps.Keys(declined)) }

// Decline explains the return codes of a connect (MQTT 3.1.1, clause 3.2.2.3) and the
// reason codes of MQTT 5 (clause 2.4).
func (rules) Decline(code int) protocol.Declined {
	if d, ok := declined[code]; ok {
		return d
	}
	return protocol.Declined{Title: fmt.Sprintf("reason 0x%02X", code), Means: "The broker refuses.",
		Causes: "Look into its log.", Unsure: true}
}

var (
	noUser = protocol.Declined{Title: "bad user or password",
		Means:  "The broker does not know the user, or not with this password.",
		Causes: "Compare both with what the broker has; a password ends without a blank or a line end.", Session: true}
	notAllowed = protocol.Declined{Title: "not authorised", Means: "The user may not do that.",
		Causes: "Have the broker's list of rights name the user, the client id and the topic."}
)

var declined = map[int]protocol.Declined{
	1: {Title: "protocol version not accepted", Means: "The broker does not speak this version.",
		Causes: "Set the version to what it speaks.", Session: true},
	2: {Title: "client id refused", Means: "The broker takes no such client id.",
		Causes: "Give a shorter one, of letters and digits; some brokers have a list.", Session: true},
	3: {Title: "server unavailable", Means: "The broker is there, and serves nobody now.",
		Causes: "It is starting, or full: look into its log.", Session: true},
	4: noUser,
	5: {Title: "user not authorised", Means: "The broker does not let this user, or this client id, in.",
		Causes:  "Compare user and password with what the broker has: many brokers answer so to a wrong password.",
		Session: true},
	0x80: {Title: "refused", Means: "The broker refuses, and does not say why.",
		Causes: "Look into its log, and at its list of rights."},
	0x84: {Title: "protocol version not accepted", Means: "The broker does not speak this version.",
		Causes: "Set the version to what it speaks.", Session: true},
	0x85: {Title: "client id refused", Means: "The broker takes no such client id.", Causes: "Give another one.",
		Session: true},
	0x86: noUser,
	0x87: notAllowed,
	0x88: {Title: "server unavailable", Means: "The broker is there, and serves nobody now.",
		Causes: "It is starting, or shuts down.", Session: true},
	0x89: {Title: "server busy", Means: "The broker has too much to do.",
		Causes: "Publish less often, or to fewer topics."},
	0x8D: {Title: "keep alive timeout",
		Means:  "The broker has heard nothing for one and a half times the sign of life.",
		Causes: "The connection is bad, or this machine stood still."},
	0x8E: {Title: "session taken over", Means: "Another client has connected with the same client id.",
		Causes: "Give each client an id of its own.", Session: true},
	0x90: {Title: "topic name invalid", Means: "The broker takes no such topic.",
		Causes: "Compare it with what the broker allows."},
	0x95: {Title: "packet too large", Means: "The message is longer than the broker takes.",
		Causes: "Publish less in one message."},
	0x97: {Title: "quota exceeded", Means: "The broker has taken as much as it may from this client.",
		Causes: "Publish less often."},
	0x99: {Title: "payload format invalid", Means: "The broker looks into payloads, and cannot read this one.",
		Causes: "Set the payload to what the far side reads."},
}

// ToldAs is the topic of a place.
func (rules) ToldAs(a address.Address) string { return PlaceOf(a).Topic }

// Unreadable says why a payload holds no value of a place; empty where it does.
func (rules) Unreadable(w protocol.Wanted, payload []byte) string {
	if _, err := Read(payload, PlaceOf(w.Address).Path, w.Shape); err != nil {
		return err.Error()
	}
	return ""
}
