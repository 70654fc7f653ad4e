package iec61850

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// Keys of settings.
const (
	KeyReports = "reports"
	KeyPolled  = "polledMs"
	KeyOperate = "operate"
	KeyOrigin  = "origin"
	KeyFile    = "file"
	KeyIED     = "ied"
	KeyAccess  = "accessPoint"
	KeyControl = "control"
)

// How an asking end is told, and how it operates.
const (
	ReportsBuffered   = "buffered"
	ReportsUnbuffered = "unbuffered"
	ReportsNone       = "none"
	OperateAsTold     = "told"
	OperateDirect     = "direct"
)

// MMS is IEC 61850 over MMS (IEC 61850-8-1) and ISO 8073 over TCP.
var MMS = &protocol.Def{
	Name: "iec61850", Title: "IEC 61850", Asker: "client", Answerer: "server", Medium: "ethernet",
	Example: "LD0/GGIO1.AnIn1.mag.f[MX]", Turns: protocol.TurnsOfLink, Scheme: Scheme, Rules: rules{},
	Vocabulary: &protocol.Vocabulary{Headings: map[string][]string{
		"address": {"reference", "objectreference", "dataattribute", "attribute", "daref", "doref"}}},
	Settings: []protocol.Setting{
		{Key: protocol.KeyPort, Title: "TCP port", End: protocol.BothEnds, Default: protocol.OfInt(102), Least: 1,
			Most: 65535,
			Help: "102 is usual.", Stop: "address", Shows: "the connection is refused"},
		{Key: KeyReports, Title: "Reports", Kind: protocol.Choice, End: protocol.Asking,
			Default: protocol.OfText(ReportsBuffered),
			Choices: []protocol.Option{{Value: ReportsBuffered, Title: "buffered, else unbuffered"},
				{Value: ReportsUnbuffered, Title: "unbuffered alone"}, {Value: ReportsNone, Title: "none: all is polled"}},
			Help: "Which report control blocks are enabled; what no report brings is polled.", Stop: "pace",
			Shows: "values come late"},
		{Key: KeyPolled, Title: "Polled every", Unit: "ms", End: protocol.Asking, Default: protocol.OfInt(2000), Least: 100,
			Most: 3_600_000, Help: "What no report brings, and once more what reports bring, as a sign of life.", Stop: "pace",
			Shows: "values come late"},
		{Key: KeyOrigin, Title: "Operates as", Kind: protocol.Text, End: protocol.Asking,
			Default: protocol.OfText("Ferry"), Most: 64,
			Help: "The identity of the origin that commands bear.", Stop: "points", Shows: "commands are refused"},
		{Key: KeyFile, Title: "Device file", Kind: protocol.File, End: protocol.Answering, Stop: "points",
			Help: "The ICD, CID or IID, or the SCD, that says how the device is built. Empty: it is built of the points.", Shows: "clients find another model"},
		{Key: KeyIED, Title: "IED", Kind: protocol.Text, End: protocol.Answering, Most: 64, Like: "SKERRY_CONC",
			Stop:    "points",
			Pattern: "[A-Za-z][A-Za-z0-9_]*", Help: "Its name in the file; empty for the first.",
			Shows: "clients find another model"},
		{Key: KeyAccess, Title: "Access point", Kind: protocol.Text, End: protocol.Answering, Most: 64, Like: "S1",
			Stop: "points",
			Help: "Its name in the file; empty for the first with a server.", Shows: "clients find another model"},
		{Key: protocol.KeyWithin, Title: "Answer within", Unit: "ms", End: protocol.Asking,
			Default: protocol.OfInt(5000), Least: 100,
			Most: 60_000, Stop: "session", Shows: "a slow server is taken for a dead one"},
	},
}

func init() { protocol.Register(MMS) }

type rules struct{}

// headOctets are those of a message with all of its layers, and of what acknowledges it.
const headOctets = 54 + 54 + 7 + 4 + 12 + 10

// Expected: a report for a change a second of each point that is assumed, of some 25 octets each, and
// a poll of what no report brings.
func (rules) Expected(s protocol.Settings, wanted []protocol.Wanted) []protocol.Load {
	every := float64(MMS.Int(s, KeyPolled))
	told := protocol.Load{Title: "reports", PeriodMs: 1000, Event: true, Octets: headOctets + 40, ToldMs: 100}
	poll := protocol.Load{Title: "polls", PeriodMs: every, Octets: 2 * headOctets}
	if MMS.Value(s, KeyReports).Text() == ReportsNone {
		told.ToldMs = every
	}
	for _, w := range wanted {
		told.Octets, poll.Octets = told.Octets+25, poll.Octets+60
		told.Points, poll.Points = append(told.Points, w.ID), append(poll.Points, w.ID)
	}
	return []protocol.Load{told, poll}
}

// Lapse: something is polled at its pace, whatever is reported.
func (rules) Lapse(s protocol.Settings) protocol.Lapse {
	return protocol.Lapse{AfterMs: 2*MMS.Int(s, KeyPolled) + MMS.Int(s, protocol.KeyWithin), Quality: value.Bad}
}

// AskRoom: several attributes with one question, of a message of at most so many octets.
func (rules) AskRoom(protocol.Settings) protocol.AskRoom {
	return protocol.AskRoom{Items: 50, Out: 8000, In: 8000, OutHead: headOctets, InHead: headOctets}
}

// AskBytes: the names of domain and item with their tags, and a value with its tag.
func (rules) AskBytes(w protocol.Wanted) (out, in int) {
	_, name, _ := w.Address.Name()
	return 3 * (len(name) + 14), 10 + w.Shape.Octets() + 16
}

func (rules) Asking(wanted []protocol.Wanted) string {
	if len(wanted) == 1 {
		return "read " + Scheme.Short(wanted[0].Address)
	}
	return fmt.Sprintf("read %d attributes", len(wanted))
}

func (rules) AskFunction() string { return "read" }

func (rules) Writable(a address.Address) error {
	r, ok := RefOf(a)
	switch {
	case !ok:
		return fmt.Errorf("address %s names no attribute", a)
	case r.FC == "CO" && !operates(r.Path):
		return errors.New("a control is operated by its Oper.ctlVal: LD0/GGIO1.SPCSO1.Oper.ctlVal[CO]")
	case r.FC == "CO", r.FC == "SP", r.FC == "SV", r.FC == "CF", r.FC == "DC", r.FC == "SE", r.FC == "BL":
		return nil
	}
	return fmt.Errorf("what has the functional constraint %s (%s) is read alone", r.FC, constraints[r.FC])
}

// operates reports whether a path leads to the value of a command: that may be a part of ctlVal.
func operates(path []string) bool {
	at := slices.Index(path, "Oper")
	return at > 0 && at+1 < len(path) && path[at+1] == "ctlVal"
}

// Commands: a control takes commands, and its status is another attribute.
func (rules) Commands(a address.Address) bool {
	r, _ := RefOf(a)
	return r.FC == "CO"
}

func (rules) WriteItem(a address.Address) string {
	if r, _ := RefOf(a); r.FC == "CO" {
		return "Operate"
	}
	return "Write"
}

func (rules) ItemBytes(a address.Address, shape value.Shape) (out, in int) {
	_, name, _ := a.Name()
	return headOctets + len(name) + 14 + shape.Octets() + 60, headOctets + 10
}

// Listed is what the places of a server are called that it can be asked to list.
func (rules) Listed() string { return "attributes" }

// Before is the logical device that most of the known attributes have.
func (rules) Before(known []address.Address) string {
	counts, most, best := map[string]int{}, 0, ""
	for _, a := range known {
		if r, ok := RefOf(a); ok {
			if counts[r.Device]++; counts[r.Device] > most {
				most, best = counts[r.Device], r.Device+"/"
			}
		}
	}
	return best
}

// Description is what files are called that describe devices.
func (rules) Description() string { return "SCL files" }

var sclRoot = regexp.MustCompile(`<([A-Za-z]+:)?SCL[\s>]`)

// Described reports whether a file is one, by how it begins.
func (rules) Described(data []byte) bool { return sclRoot.Match(data[:min(len(data), 8192)]) }

// Describe reads the attributes of the first device of a file that has a server.
func (rules) Describe(data []byte) (held []protocol.Held, unread []protocol.Unread, err error) {
	f, err := ReadFile(data)
	if err != nil {
		return nil, nil, err
	}
	m, err := f.Model("", "")
	if err != nil {
		return nil, nil, err
	}
	return m.Held(), m.unread(f), nil
}

func (m *Model) unread(f *File) (list []protocol.Unread) {
	for _, w := range append(slices.Clone(f.Wrong), m.Wrong...) {
		list = append(list, protocol.Unread{Line: w.Line, What: w.What, Reason: w.Reason})
	}
	return list
}

// Drawing reports whether a device can be made of a file.
func (r rules) Drawing(data []byte) bool { return r.Described(data) }

// Draw makes a device of a file: of one of its access points that have servers.
func (rules) Draw(data []byte, choice int) (d protocol.Drawn, err error) {
	f, err := ReadFile(data)
	if err != nil {
		return d, err
	}
	type place struct{ ied, access string }
	var places []place
	for _, i := range f.IEDs {
		for _, a := range i.AccessPoints {
			if len(a.Devices) > 0 {
				places = append(places, place{i.Name, a.Name})
				d.Choices = append(d.Choices, i.Name+", access point "+a.Name)
			}
		}
	}
	if choice < 0 || choice >= len(places) {
		return d, fmt.Errorf("it describes %d access points with servers: choose one of them", len(places))
	}
	at := places[choice]
	m, err := f.Model(at.ied, at.access)
	if err != nil {
		return d, err
	}
	for _, i := range f.IEDs {
		if i.Name == at.ied {
			d.Model, d.Remark = strings.TrimSpace(i.Maker+" "+i.Type), i.Desc
		}
	}
	d.FileKey = KeyFile
	d.Name, d.Held, d.Unread = at.ied, m.Held(), m.unread(f)
	d.Ask, d.Answer = protocol.Settings{}, protocol.Settings{KeyIED: protocol.OfText(at.ied),
		KeyAccess: protocol.OfText(at.access)}
	if port, err := strconv.Atoi(f.Addresses[at.ied+"/"+at.access]["MMS-Port"]); err == nil && port > 0 && port < 1<<16 {
		d.Ask[protocol.KeyPort], d.Answer[protocol.KeyPort] = protocol.OfInt(port), protocol.OfInt(port)
	}
	return d, nil
}
