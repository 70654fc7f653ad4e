package dnp3

import (
	"errors"
	"fmt"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// Keys of settings.
const (
	KeyOutstation  = "outstation"
	KeyMaster      = "master"
	KeyIntegrity   = "integrityS"
	KeyClass1      = "class1Ms"
	KeyClass2      = "class2Ms"
	KeyClass3      = "class3Ms"
	KeyUnasked1    = "unasked1"
	KeyUnasked2    = "unasked2"
	KeyUnasked3    = "unasked3"
	KeyTime        = "time"
	KeyOperate     = "operate"
	KeyOnMs        = "onMs"
	KeyOffMs       = "offMs"
	KeyFreeze      = "freezeS"
	KeyAlive       = "aliveS"
	KeyLinkConfirm = "linkConfirm"
)

// How commands are carried out, and when the time is set.
const (
	OperateSelect = "select"
	OperateDirect = "direct"
	TimeAsked     = "asked"
	TimeNever     = "never"
)

// mostStation is the greatest address of a station: those above are kept for other uses (IEEE
// 1815, clause 9.2.3.2).
const mostStation = 65519

// TCP is DNP3 over TCP (clause 13), Serial over serial lines.
var (
	TCP = &protocol.Def{
		Name: "dnp3-tcp", Title: "DNP3", Asker: "master", Answerer: "outstation", Medium: "ethernet",
		Example: "ai3", Turns: protocol.TurnsOfAddress, Station: KeyOutstation, Scheme: Scheme, Rules: rules{tcp: true},
		Vocabulary: vocabulary,
		Settings: append([]protocol.Setting{{Key: protocol.KeyPort, Title: "TCP port", End: protocol.BothEnds,
			Default: protocol.OfInt(20000), Least: 1, Most: 65535, Help: "20000 is usual.", Stop: "address",
			Shows: "the connection is refused"}}, settings(5000)...),
	}
	Serial = &protocol.Def{
		Name: "dnp3-serial", Title: "DNP3 serial", Asker: "master", Answerer: "outstation", Medium: "serial",
		Example: "ai3", Turns: protocol.TurnsOfLine, Station: KeyOutstation, Scheme: Scheme, Rules: rules{},
		Vocabulary: vocabulary, Settings: settings(3000),
	}
)

var vocabulary = &protocol.Vocabulary{Headings: map[string][]string{
	"address": {"index", "pointindex", "dnpindex", "dnppoint", "pointnumber", "pointno", "firstindex"},
	"table":   {"objectgroup", "group", "pointtype", "objecttype", "object", "kind", "objectkind"}}}

func init() {
	protocol.Register(TCP)
	protocol.Register(Serial)
}

func settings(within int) []protocol.Setting {
	unasked := func(key, class string) protocol.Setting {
		return protocol.Setting{Key: key, Title: "Events of class " + class + " unasked", Kind: protocol.Switch,
			End: protocol.Asking, Help: "The outstation sends them by itself, once this end has enabled it.", Stop: "pace",
			Shows: "events wait for the next poll"}
	}
	number := func(key, title, unit string, usual, least, most int, help string) protocol.Setting {
		return protocol.Setting{Key: key, Title: title, Unit: unit, End: protocol.Asking, Default: protocol.OfInt(usual),
			Least: least, Most: most, Help: help, Stop: "pace"}
	}
	return []protocol.Setting{
		{Key: KeyOutstation, Title: "Outstation", End: protocol.BothEnds, Default: protocol.OfInt(10),
			Most: mostStation, Stop: "session", Help: "The link address of the outstation, which frames to it bear.",
			Shows: "the outstation stays silent"},
		{Key: KeyMaster, Title: "Master", End: protocol.BothEnds, Default: protocol.OfInt(1), Most: mostStation,
			Stop: "session", Help: "The link address of the master. Many outstations answer one master alone.",
			Shows: "the outstation stays silent, or sends its events to another"},
		number(KeyIntegrity, "Integrity poll every", "s", 3600, 0, 1_000_000,
			"All that is there, and all events. At the start and after a restart it is asked for anyway; 0 is never besides."),
		number(KeyClass1, "Class 1 every", "ms", 1000, 0, 100_000_000, "0 is never."),
		number(KeyClass2, "Class 2 every", "ms", 1000, 0, 100_000_000, "0 is never."),
		number(KeyClass3, "Class 3 every", "ms", 5000, 0, 100_000_000, "0 is never."),
		unasked(KeyUnasked1, "1"), unasked(KeyUnasked2, "2"), unasked(KeyUnasked3, "3"),
		{Key: KeyTime, Title: "Sets the outstation's clock", Kind: protocol.Choice, End: protocol.Asking,
			Default: protocol.OfText(TimeAsked), Choices: []protocol.Option{{Value: TimeAsked, Title: "when it asks for it"},
				{Value: TimeNever, Title: "never"}}, Stop: "points", Shows: "times of events are wrong"},
		{Key: KeyOperate, Title: "Commands", Kind: protocol.Choice, End: protocol.Asking,
			Default: protocol.OfText(OperateSelect), Choices: []protocol.Option{
				{Value: OperateSelect, Title: "are selected, then operated"},
				{Value: OperateDirect, Title: "are operated directly"}},
			Stop: "points", Shows: "commands are refused"},
		number(KeyOnMs, "Pulse on for", "ms", 500, 0, 1_000_000, "Of commands that give a pulse, or close and trip."),
		number(KeyOffMs, "Pulse off for", "ms", 0, 0, 1_000_000, ""),
		number(KeyFreeze, "Counters frozen every", "s", 0, 0, 1_000_000,
			"0 is never: the outstation freezes them by itself, or another does."),
		number(KeyAlive, "Sign of life every", "s", 30, 1, 100_000,
			"Where nothing is asked for so long, the state of the link is."),
		number(protocol.KeyWithin, "Answer within", "ms", within, 100, 60_000, ""),
		number(protocol.KeyRetries, "Tries again", "", 1, 0, 10, ""),
	}
}

// Classes of events, and the one of all that is there.
const (
	Class0 = 0
	Class1 = 1
	Class2 = 2
	Class3 = 3
)

// def is the protocol of rules.
func (r rules) def() *protocol.Def {
	if r.tcp {
		return TCP
	}
	return Serial
}

// ClassEvery is how often a class is polled, in milliseconds, 0 for never; Unasked reports whether
// its events are sent without a poll.
func ClassEvery(s protocol.Settings, class int) int {
	return TCP.Int(s, [...]string{KeyIntegrity, KeyClass1, KeyClass2, KeyClass3}[class])
}

// Unasked is as ClassEvery.
func Unasked(s protocol.Settings, class int) bool {
	return TCP.Value(s, [...]string{"", KeyUnasked1, KeyUnasked2, KeyUnasked3}[class]).On()
}

type rules struct{ tcp bool }

// Octets of a frame and a fragment around their objects, of a question and of an answer: the link
// header with its check, the transport octet, the check of its block, the application header.
const (
	askHead    = 10 + 1 + 2 + 2
	answerHead = 10 + 1 + 2 + 4
	// tcpHead are those of IP and TCP under one, and of the acknowledgement.
	tcpHead = 54 + 54
	// eventOctets are those of one event: its index, flags, value and time; staticOctets those of
	// what stands there.
	eventOctets  = 2 + 1 + 4 + 6
	staticOctets = 5
	perHeader    = 3
)

// framed is how many octets so many of an application take with all framing.
func (r rules) framed(head, octets int) int {
	frames := max(1, (octets+248)/249)
	n := frames*(head+2) + octets + 2*(octets/16)
	if r.tcp {
		n += frames * tcpHead
	}
	return n
}

// Expected: a poll of each class at its pace, an integrity poll at its own, and events, of which
// one a minute is assumed of each point.
func (r rules) Expected(s protocol.Settings, wanted []protocol.Wanted) (list []protocol.Load) {
	var ids []string
	for _, w := range wanted {
		ids = append(ids, w.ID)
	}
	if every := r.def().Int(s, KeyIntegrity); every > 0 {
		list = append(list, protocol.Load{Title: "integrity poll", PeriodMs: 1000 * float64(every), Points: ids,
			Octets: r.framed(askHead, 4*perHeader) + r.framed(answerHead, staticOctets*len(wanted))})
	}
	slowest := 0
	for class := Class1; class <= Class3; class++ {
		every := ClassEvery(s, class)
		if every == 0 || class > Class1 && every == ClassEvery(s, class-1) {
			slowest = max(slowest, every)
			continue // it goes with the one before
		}
		slowest = max(slowest, every)
		list = append(list, protocol.Load{Title: fmt.Sprintf("poll of class %d", class), PeriodMs: float64(every),
			Points: ids, Octets: r.framed(askHead, perHeader) + r.framed(answerHead, 0)})
	}
	events := protocol.Load{Title: "events", PeriodMs: 60_000, Event: true, Points: ids, ToldMs: float64(slowest),
		Octets: len(wanted) * eventOctets}
	return append(list, events)
}

// Lapse: something is asked at the latest after the sign of life that is due, and tried again.
func (r rules) Lapse(s protocol.Settings) protocol.Lapse {
	every := 1000 * r.def().Int(s, KeyAlive)
	for class := Class1; class <= Class3; class++ {
		if ms := ClassEvery(s, class); ms > 0 {
			every = min(every, ms)
		}
	}
	tries := 1 + r.def().Int(s, protocol.KeyRetries)
	return protocol.Lapse{AfterMs: 2*every + (1+tries)*r.def().Int(s, protocol.KeyWithin), Quality: value.Bad}
}

// AskRoom: ranges of objects, so many in one fragment that their answer fits into one of the usual
// 2048 octets.
func (r rules) AskRoom(protocol.Settings) protocol.AskRoom {
	return protocol.AskRoom{Items: 100, Out: 249 + r.framed(askHead, 0), In: 2048, OutHead: r.framed(askHead, 0),
		InHead: r.framed(answerHead, 0)}
}

// AskBytes: a header with its range, and in the answer the object behind such a header.
func (rules) AskBytes(w protocol.Wanted) (out, in int) { return 7, 7 + 5 + w.Shape.Octets() }

func (rules) Asking(wanted []protocol.Wanted) string {
	if len(wanted) == 1 {
		return "read " + Scheme.Short(wanted[0].Address)
	}
	return fmt.Sprintf("read %d objects", len(wanted))
}

func (rules) AskFunction() string { return "read" }

func (rules) Writable(a address.Address) error {
	o, ok := ObjectOf(a)
	switch {
	case !ok:
		return fmt.Errorf("address %s is no object", a)
	case o.Kind.Command() == 0:
		return errors.New("only binary and analogue outputs take commands")
	}
	return nil
}

// Commands: an output that gives a pulse, or that two relays operate, does not stand as it was told.
func (rules) Commands(a address.Address) bool {
	o, _ := ObjectOf(a)
	return o.How != Latch
}

func (rules) WriteItem(a address.Address) string {
	if o, _ := ObjectOf(a); o.Kind == AnalogOutput {
		return "analogue output"
	}
	return "control relay output block"
}

func (r rules) ItemBytes(a address.Address, _ value.Shape) (out, in int) {
	octets := 2 + 11 + perHeader + 2
	return r.framed(askHead, octets), r.framed(answerHead, octets)
}

// Listed is what the places of an outstation are called that it can be asked to list.
func (rules) Listed() string { return "objects" }

// Deadbands: an outstation keeps one of each analogue input (clause 11.9.28, object 34).
func (rules) Deadbands() {}

// ToldAs is the name of an object, however it is operated.
func (rules) ToldAs(a address.Address) string {
	o, ok := ObjectOf(a)
	if !ok {
		return ""
	}
	o.How = Latch
	return o.String()
}

// Unreadable says why an object, as its group and variation with the number that it holds in 8 octets,
// is no value of a point: it is a text, or is told as a whole number where the point has more.
func (rules) Unreadable(w protocol.Wanted, payload []byte) string {
	if len(payload) < 2 {
		return ""
	}
	group, variation := payload[0], payload[1]
	text := group == kinds[OctetString].static || group == kinds[OctetString].event
	whole := map[byte]string{30: "\x01\x02\x03\x04", 32: "\x01\x02\x03\x04", 40: "\x01\x02", 42: "\x01\x02\x03\x04"}[group]
	switch {
	case text != w.Shape.Type.IsText():
		return fmt.Sprintf("object %d.%d does not fit the type %s", group, variation, w.Shape.Type)
	case w.Shape.Type.IsFloat() && strings.IndexByte(whole, variation) >= 0:
		return fmt.Sprintf("object %d.%d is a whole number, and the map says %s: what stands behind the point is cut off",
			group, variation, w.Shape.Type)
	}
	return ""
}

// Before: nothing stands before a kind and its index.
func (rules) Before([]address.Address) string { return "" }

// SortOf is the sort of an object, by its kind.
func (rules) SortOf(a address.Address, t value.Type) protocol.Sort {
	o, ok := ObjectOf(a)
	if !ok {
		return protocol.SortByType(t)
	}
	return [...]protocol.Sort{NoKind: protocol.SortByType(t), BinaryInput: protocol.SingleSort,
		DoubleInput: protocol.DoubleSort, BinaryOutput: protocol.CommandSort, Counter: protocol.CounterSort,
		FrozenCounter: protocol.CounterSort, AnalogInput: protocol.MeasuredSort, AnalogOutput: protocol.SetpointSort,
		OctetString: protocol.TextSort}[o.Kind]
}
