package bacnet

import (
	"errors"
	"fmt"

	"ferry/internal/core/address"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// Keys of settings.
const (
	KeyDevice   = "device"
	KeyNetwork  = "network"
	KeyTold     = "told"
	KeyLifetime = "lifetimeS"
	KeyCheck    = "checkS"
	KeyPriority = "priority"
	KeyOwnPort  = "ownPort"
	KeyForeign  = "foreign"
	KeyName     = "objectName"
	KeyPeers    = "broadcastsTo"
)

// How values come.
const (
	ToldConfirmed   = "confirmed"
	ToldUnconfirmed = "unconfirmed"
	ToldAsked       = "asked"
)

// UsualPort is the port of BACnet/IP (annex J.1.2), MostDevice the greatest instance of a device.
const (
	UsualPort  = 47808
	MostDevice = mostInstance
	// lowestPriority is the one of those who say none (clause 19.2.1).
	lowestPriority = 16
	mostPriorities = 16
)

// IP is BACnet/IP (annex J).
var IP = &protocol.Def{
	Name: "bacnet-ip", Title: "BACnet/IP", Asker: "client", Answerer: "server", Medium: "ethernet",
	Example: "analog-input:3",
	Turns:   protocol.TurnsOfLink, Datagrams: true, Station: KeyDevice, Scheme: Scheme, Rules: rules{},
	Vocabulary: &protocol.Vocabulary{Headings: map[string][]string{
		"address": {"objectinstance", "objectidentifier", "objectid", "instance"},
		"table":   {"objecttype"}}},
	Settings: []protocol.Setting{
		{Key: protocol.KeyPort, Title: "UDP port", End: protocol.BothEnds, Default: protocol.OfInt(UsualPort), Least: 1,
			Most: 65535,
			Help: "47808 is usual; its numbers follow where one network has several.", Stop: "address",
			Shows: "nothing comes back"},
		{Key: KeyDevice, Title: "Device instance", End: protocol.BothEnds, Default: protocol.OfInt(1), Most: MostDevice,
			Stop: "session",
			Help: "The number of the device, unique on the whole internetwork.", Shows: "another device answers, or none"},
		{Key: KeyNetwork, Title: "Network number", End: protocol.BothEnds, Most: EveryNetwork - 1, Stop: "session",
			Help:  "Of the network behind that address in which the device is; 0 where it has the address itself.",
			Shows: "nothing comes back from behind it"},
		{Key: KeyTold, Title: "Changes", Kind: protocol.Choice, End: protocol.Asking, Default: protocol.OfText(ToldAsked),
			Choices: []protocol.Option{{Value: ToldAsked, Title: "are asked for, at the pace of each point"},
				{Value: ToldConfirmed, Title: "are told and confirmed"}, {Value: ToldUnconfirmed, Title: "are told, unconfirmed"}},
			Help: "What a device does not tell is asked for.", Stop: "pace", Shows: "values come late"},
		{Key: KeyLifetime, Title: "Told for", Unit: "s", End: protocol.Asking, Default: protocol.OfInt(300), Least: 30,
			Most: 86_400,
			Help: "How long a subscription lasts; it is renewed at half of that.", Stop: "pace", Shows: "values stand still"},
		{Key: KeyCheck, Title: "Read beside every", Unit: "s", End: protocol.Asking, Default: protocol.OfInt(10),
			Least: 1, Most: 3600,
			Help: "What is told is read as well: a report may get lost.", Stop: "pace", Shows: "values stand still"},
		{Key: KeyPriority, Title: "Writes at priority", End: protocol.Asking, Default: protocol.OfInt(lowestPriority),
			Least: 1,
			Most:  mostPriorities, Help: "1 wins over all, 16 gives way to all; 8 is the usual one of a person.", Stop: "points",
			Shows: "what is written has no effect"},
		{Key: KeyOwnPort, Title: "Asks from port", End: protocol.Asking, Most: 65535, Stop: "session",
			Help: "Of this machine; 0 for any. Some devices answer to 47808 alone.", Shows: "nothing comes back"},
		{Key: KeyForeign, Title: "Registers at", Kind: protocol.Text, End: protocol.Asking, Most: 64, Like: "192.0.2.1",
			Stop:  "session",
			Help:  "The device that brings broadcasts from its subnet to this machine, if that is another.",
			Shows: "broadcasts do not arrive"},
		{Key: KeyName, Title: "Device name", Kind: protocol.Text, End: protocol.Answering, Most: 64, Stop: "session",
			Help:  "The object name of the device, unique on the internetwork; empty for its name here.",
			Shows: "two devices are taken for one"},
		{Key: KeyPeers, Title: "Broadcasts to", Kind: protocol.Text, End: protocol.Answering, Most: 200,
			Like: "192.0.2.1, 198.51.100.1", Stop: "session",
			Help:  "Devices that bring broadcasts to their subnets; what they bring is taken to this one.",
			Shows: "broadcasts do not arrive"},
		{Key: protocol.KeyWithin, Title: "Answer within", Unit: "ms", End: protocol.Asking,
			Default: protocol.OfInt(3000), Least: 50,
			Most: 60_000, Stop: "session", Shows: "a slow device is taken for a dead one"},
		{Key: protocol.KeyRetries, Title: "Tries again", End: protocol.Asking, Default: protocol.OfInt(2), Most: 10,
			Stop: "session"},
	},
}

// EveryNetwork is the number that stands for all networks (clause 6.2.2).
const EveryNetwork = 65535

func init() { protocol.Register(IP) }

type rules struct{}

// Octets around what is asked for: of Ethernet, IP and UDP, of the link, network and application layers.
const (
	headOctets  = 18 + 20 + 8 + 4 + 2 + 4
	askOctets   = 5 + 2 + 2*2             // object, brackets, two properties
	valueOctets = 5 + 2 + 2*(2+2) + 5 + 3 // the same, with a number and the status
	mostAnswer  = 1476
	mostAsked   = 100
	toldOctets  = 2 + 5 + 5 + 3 + 2 + 2*4 + 5 + 3
)

// Paced puts what is wanted together by its pace, each in as many questions as it takes.
func Paced(wanted []protocol.Wanted) (paces []int, by map[int][]protocol.Wanted) {
	by = map[int][]protocol.Wanted{}
	for _, w := range wanted {
		if by[w.PaceMs] == nil {
			paces = append(paces, w.PaceMs)
		}
		by[w.PaceMs] = append(by[w.PaceMs], w)
	}
	return paces, by
}

// Expected: what is asked for at the pace of each point, several objects with one question; where changes are
// told, one a minute of each point is assumed, and all are read at times.
func (rules) Expected(s protocol.Settings, wanted []protocol.Wanted) (list []protocol.Load) {
	asked := func(title string, every float64, points []protocol.Wanted) {
		perAsk := min(mostAsked, mostAnswer/valueOctets)
		asks := (len(points) + perAsk - 1) / perAsk
		l := protocol.Load{Title: title, PeriodMs: every, Octets: 2*asks*headOctets + len(points)*(askOctets+valueOctets)}
		for _, w := range points {
			l.Points = append(l.Points, w.ID)
		}
		list = append(list, l)
	}
	if told := IP.Value(s, KeyTold).Text(); told != ToldAsked {
		l := protocol.Load{Title: "reports of changes", PeriodMs: 60_000, Event: true, ToldMs: 100}
		for _, w := range wanted {
			l.Points = append(l.Points, w.ID)
			l.Octets += headOctets + toldOctets
			if told == ToldConfirmed {
				l.Octets += headOctets
			}
		}
		list = append(list, l)
		asked("read beside", 1000*float64(IP.Int(s, KeyCheck)), wanted)
		return list
	}
	paces, by := Paced(wanted)
	for _, pace := range paces {
		if pace > 0 {
			asked("present values", float64(pace), by[pace])
		}
	}
	return list
}

// slowestSign is how long it may take at most until something is asked for, in milliseconds.
const slowestSign = 10_000

// Lapse: something is asked for at the latest after the sign of life that is due.
func (rules) Lapse(s protocol.Settings) protocol.Lapse {
	tries := 1 + IP.Int(s, protocol.KeyRetries)
	every := slowestSign
	if IP.Value(s, KeyTold).Text() != ToldAsked {
		every = min(every, 1000*IP.Int(s, KeyCheck))
	}
	return protocol.Lapse{AfterMs: 2*every + tries*IP.Int(s, protocol.KeyWithin), Quality: value.Bad}
}

// Every is how often a point is asked for, in milliseconds, at a pace that may be 0.
func Every(paceMs int) int {
	if paceMs <= 0 {
		return slowestSign
	}
	return min(paceMs, slowestSign)
}

// AskRoom: several objects with one question, whose answer fits into one datagram.
func (rules) AskRoom(protocol.Settings) protocol.AskRoom {
	return protocol.AskRoom{Items: mostAsked, Out: mostAnswer, In: mostAnswer, OutHead: headOctets, InHead: headOctets}
}

func (rules) AskBytes(w protocol.Wanted) (out, in int) {
	return askOctets, valueOctets + max(0, w.Shape.Octets()-4)
}

func (rules) Asking(wanted []protocol.Wanted) string {
	if len(wanted) == 1 {
		return "read " + Scheme.Short(wanted[0].Address)
	}
	return fmt.Sprintf("read %d objects", len(wanted))
}

func (rules) AskFunction() string { return "ReadPropertyMultiple" }

// Writable: the present value, and the element of a priority array, which commands at that priority.
func (rules) Writable(a address.Address) error {
	p, ok := PlaceOf(a)
	switch {
	case !ok:
		return fmt.Errorf("address %s is no object", a)
	case p.Type == Device:
		return errors.New("a device is not written")
	case p.Property == PriorityArray && (p.Index < 1 || p.Index > mostPriorities):
		return errors.New("a command has a priority from 1 to 16: analog-value:2.priority-array[8]")
	case p.Property == PriorityArray && !p.Type.Commanded():
		return fmt.Errorf("%s has no priorities", p.Type.Name())
	case p.Property == PriorityArray && p.Index == reservedPriority:
		return errors.New("priority 6 is kept for minimum times of on and off")
	case p.Property == ObjectIdentifier, p.Property == ObjectType, p.Property == ObjectList, p.Property == StatusFlags,
		p.Property == PropertyList, p.Property == EventState:
		return fmt.Errorf("%s is only read", p.Property.Name())
	}
	return nil
}

// reservedPriority is that of minimum times (clause 19.2.3).
const reservedPriority = 6

func (rules) WriteItem(address.Address) string { return "WriteProperty" }

func (rules) ItemBytes(_ address.Address, shape value.Shape) (out, in int) {
	return headOctets + askOctets + 4 + shape.Octets() + 2, headOctets
}

// Listed is what the places of a device are called that it can be asked to list.
func (rules) Listed() string { return "objects" }

// Calling is the question that all devices of a network answer.
func (rules) Calling() string { return "Ask all who they are (Who-Is)" }

// Unique: the instance of a device is unique on the internetwork (clause 12.11.1).
func (rules) Unique() {}

// Clash: one device has the address itself, the others are in networks behind it.
func (rules) Clash(one, other protocol.Settings) string {
	if IP.Int(one, KeyNetwork) == 0 && IP.Int(other, KeyNetwork) == 0 {
		return "both have the address itself: one of them has to be behind it, with a network number"
	}
	return ""
}

// Deadbands: each analogue object keeps one, by which its value has to move until that is told (clause 12.2.22).
func (rules) Deadbands() {}

// Before: nothing stands before the name of an object.
func (rules) Before([]address.Address) string { return "" }

// SortOf is the sort of an object, by its type.
func (rules) SortOf(a address.Address, t value.Type) protocol.Sort {
	p, ok := PlaceOf(a)
	if !ok || p.Property != PresentValue {
		return protocol.SortByType(t)
	}
	switch p.Type {
	case AnalogInput, PulseConverter:
		return protocol.MeasuredSort
	case Accumulator, PositiveIntValue, IntegerValue:
		return protocol.CounterSort
	case AnalogOutput, AnalogValue, LargeAnalogValue:
		return protocol.SetpointSort
	case BinaryInput:
		return protocol.SingleSort
	case BinaryOutput, BinaryValue:
		return protocol.CommandSort
	case MultiInput, MultiValue, MultiOutput:
		return protocol.EnumSort
	case CharacterValue:
		return protocol.TextSort
	}
	return protocol.SortByType(t)
}
