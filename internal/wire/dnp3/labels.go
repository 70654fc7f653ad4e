package dnp3

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/dnp3"
)

// Labels says what octets are that hold frames, one behind the other. Points are put over the
// values that they came from.
func Labels(b []byte, points []exchange.Labelled) []exchange.Field {
	l := &labels{b: b}
	for at := 0; at < len(b); {
		n, err := Length(b[at:])
		if err != nil || at+n > len(b) {
			why := "the frame is cut short"
			if err != nil && len(b)-at >= 3 {
				why = err.Error()
			}
			l.add(at, len(b), "no frame", "broken", why)
			break
		}
		l.frame(at, n)
		at += n
	}
	slices.SortStableFunc(l.fields, func(a, b exchange.Field) int { return cmp.Compare(a.From, b.From) })
	return overlaid(l.fields, points)
}

// overlaid puts points over the fields that they came from.
func overlaid(fields []exchange.Field, points []exchange.Labelled) []exchange.Field {
	for i := range fields {
		f := &fields[i]
		for _, p := range points {
			if f.Role == "data" && p.From < f.To && f.From < p.To {
				f.Role, f.Point = "point", p.ID
				f.Label, f.Meaning = p.Name, strings.TrimSpace(p.Shown+" · "+f.Meaning)
			}
		}
	}
	return fields
}

// labels goes through frames.
type labels struct {
	b      []byte
	fields []exchange.Field
	held   []byte // of the fragment that is under way
	at     []int  // where each octet of it stands
	open   bool
}

func (l *labels) add(from, to int, label, role, meaning string) {
	if from < to {
		l.fields = append(l.fields, exchange.Field{From: from, To: to, Label: label, Role: role, Meaning: meaning})
	}
}

var linkWords = map[byte]string{Primary | ResetLink: "reset the link", Primary | TestLink: "test the link",
	Primary | ConfirmedData: "data that the link confirms", Primary | UnconfirmedData: "data",
	Primary | AskLinkStatus: "ask for the state of the link", Ack: "taken", Nack: "not taken",
	LinkStatus: "state of the link", NotSupported: "not supported"}

// ControlWords are the control octet of a frame in words.
func ControlWords(control byte) string {
	word, known := linkWords[control&(Primary|0x0F)]
	if !known {
		word = fmt.Sprintf("function %d", control&0x0F)
	}
	if control&FromMaster != 0 {
		return word + ", from the master"
	}
	return word + ", from the outstation"
}

// frame labels a frame of n octets from at on.
func (l *labels) frame(at, n int) {
	b := l.b[at : at+n]
	l.add(at, at+2, "start", "frame", "05 64")
	l.add(at+2, at+3, "length", "frame", fmt.Sprintf("%d octets behind it, without checks", b[2]))
	l.add(at+3, at+4, "control", "frame", ControlWords(b[3]))
	l.add(at+4, at+6, "to", "frame", fmt.Sprintf("station %d", int(b[4])|int(b[5])<<8))
	l.add(at+6, at+8, "from", "frame", fmt.Sprintf("station %d", int(b[6])|int(b[7])<<8))
	l.check(at, at+8)
	data := int(b[2]) - 5
	for from := 0; from < data; from += blockOctets {
		begin := at + Places(from)
		l.check(begin, begin+min(blockOctets, data-from))
	}
	f, err := Read(b)
	if err != nil || data == 0 {
		return
	}
	head := f.Data[0]
	said := []string{fmt.Sprintf("segment %d", head&segmentMask)}
	if head&firstOf != 0 {
		said = append(said, "the first")
		l.held, l.at, l.open = nil, nil, true
	}
	if head&lastSegment != 0 {
		said = append(said, "the last")
	}
	l.add(at+Places(0), at+Places(0)+1, "transport", "frame", strings.Join(said, ", "))
	for i := 1; i < data; i++ {
		l.held, l.at = append(l.held, f.Data[i]), append(l.at, at+Places(i))
	}
	if head&lastSegment != 0 {
		if l.open {
			l.fragment()
		} else {
			l.part(0, len(l.held), "octets", "data", "of a fragment whose beginning is not here")
		}
		l.held, l.at, l.open = nil, nil, false
	}
}

// check labels the check behind octets.
func (l *labels) check(from, to int) {
	if is := int(l.b[to]) | int(l.b[to+1])<<8; is == int(check(l.b[from:to])) {
		l.add(to, to+2, "check", "frame", "right")
	} else {
		l.add(to, to+2, "check", "broken", fmt.Sprintf("it should be %04X", check(l.b[from:to])))
	}
}

// part labels octets of the fragment, wherever they stand.
func (l *labels) part(from, to int, label, role, meaning string) {
	to = min(to, len(l.at))
	for from < to {
		end := from + 1
		for end < to && l.at[end] == l.at[end-1]+1 {
			end++
		}
		l.add(l.at[from], l.at[end-1]+1, label, role, meaning)
		from = end
	}
}

// functionWords are what fragments are for.
var functionWords = map[Function]string{FnConfirm: "confirm", FnRead: "read", FnWrite: "write", FnSelect: "select",
	FnOperate: "operate", FnDirect: "direct operate", FnDirectNoAck: "direct operate, no answer", FnFreeze: "freeze",
	FnFreezeNoAck: "freeze, no answer", FnFreezeClear: "freeze and clear", FnColdRestart: "cold restart",
	FnWarmRestart: "warm restart", FnEnable: "enable unsolicited", FnDisable: "disable unsolicited",
	FnAssignClass: "assign class", FnDelay: "delay measurement", FnRecordTime: "record current time",
	FnResponse: "response", FnUnsolicited: "unsolicited response"}

// String is what a fragment is for, in words.
func (f Function) String() string {
	if word, known := functionWords[f]; known {
		return word
	}
	return fmt.Sprintf("function %d", byte(f))
}

// applicationWords are the control octet of a fragment in words.
func applicationWords(control byte) string {
	said := []string{fmt.Sprintf("number %d", control&NumberMask)}
	for _, bit := range []struct {
		bit  byte
		word string
	}{{First, "the first fragment"}, {Last, "the last"}, {Confirm, "to be confirmed"},
		{Unsolicited, "nobody asked for it"}} {
		if control&bit.bit != 0 {
			said = append(said, bit.word)
		}
	}
	return strings.Join(said, ", ")
}

// fragment labels the fragment that is held.
func (l *labels) fragment() {
	f, err := ReadFragment(l.held)
	if err != nil {
		l.part(0, len(l.held), "no fragment", "broken", err.Error())
		return
	}
	l.part(0, 1, "application control", "frame", applicationWords(f.Control))
	l.part(1, 2, "function", "frame", f.Function.String())
	head := len(l.held) - len(f.Objects)
	if head > octetsOfAsking {
		words := family.Indications(uint16(f.Indications))
		if len(words) == 0 {
			words = []string{"nothing"}
		}
		l.part(octetsOfAsking, head, "internal indications", "frame", strings.Join(words, ", "))
	}
	l.objects(f.Objects, head, f.Function)
}

// carries reports whether objects follow their headers in a fragment with such a function: a read
// names them only.
func (f Function) carries() bool {
	switch f {
	case FnRead, FnEnable, FnDisable, FnAssignClass, FnFreeze, FnFreezeNoAck, FnFreezeClear, FnConfirm:
		return false
	}
	return true
}

// objects labels object headers and what is behind them, from an octet of the fragment on.
func (l *labels) objects(b []byte, at int, function Function) {
	end := at + len(b)
	for len(b) > 0 {
		h, rest, err := ReadHeader(b)
		if err != nil {
			l.part(at, end, "no object", "broken", err.Error())
			return
		}
		size := len(b) - len(rest)
		l.part(at, at+2, "object", "frame", ObjectWords(h.Group, h.Variation))
		l.part(at+2, at+3, "qualifier", "frame", fmt.Sprintf("%02X", h.Qualifier))
		l.part(at+3, at+size, "range", "frame", h.rangeWords())
		if at += size; !function.carries() {
			b = rest
			continue
		}
		n, err := behind(b, func(o Object) {
			l.part(at+o.From-size, at+o.To-size, ObjectWords(o.Group, o.Variation), "data", o.Says())
		})
		if err != nil {
			l.part(at, end, "octets", "broken", err.Error())
			return
		}
		l.indexes(h, at, n-size)
		at, b = at+n-size, b[n:]
	}
}

// indexes labels what stands before each object of a header.
func (l *labels) indexes(h Header, at, octets int) {
	prefix := [8]int{0, 1, 2, 4}[h.Qualifier>>4&7]
	if prefix == 0 || h.Count == 0 {
		return
	}
	for i, each := 0, octets/int(h.Count); i < octets && each > 0; i += each {
		index := 0
		for k := range prefix {
			index |= int(l.held[at+i+k]) << (8 * k)
		}
		l.part(at+i, at+i+prefix, "index", "frame", fmt.Sprint(index))
	}
}

// rangeWords is the range of a header in words.
func (h *Header) rangeWords() string {
	switch {
	case h.All:
		return "all"
	case h.Qualifier&0x0F <= FromTo32:
		return fmt.Sprintf("%d to %d", h.Start, h.Start+h.Count-1)
	}
	return fmt.Sprintf("%d of them", h.Count)
}

// ObjectWords is an object by its group and variation: "30.5 analogue input".
func ObjectWords(group, variation byte) string {
	name := ""
	switch kind, event := family.KindOf(group); {
	case group == kind.Command() && group != 0:
		name = "command of " + kind.Title()
	case event:
		name = kind.Title() + " event"
	case kind != family.NoKind:
		name = kind.Title()
	case group == 60:
		name = fmt.Sprintf("class %d", int(variation)-1)
	case group == 50, group == 51:
		name = "time"
	case group == 52:
		name = "delay"
	case group == 80:
		name = "internal indications"
	case group == 34:
		name = "deadband of analogue input"
	}
	return strings.TrimSpace(fmt.Sprintf("%d.%d %s", group, variation, name))
}

// Says is what an object says, in words.
func (o *Object) Says() string {
	var said []string
	kind, _ := family.KindOf(o.Group)
	if kind != family.NoKind {
		said = append(said, fmt.Sprintf("%s %d", kind.Short(), o.Index))
	}
	switch {
	case o.Group == 12:
		said = append(said, o.Control.Words())
	case !o.Value.IsNone():
		said = append(said, o.Value.String())
	}
	if o.Flagged {
		said = append(said, "flags: "+family.FlagWords(kind, o.Flags))
	}
	if !o.At.IsZero() {
		said = append(said, o.At.Format(time.RFC3339Nano))
	} else if o.Behind > 0 {
		said = append(said, fmt.Sprintf("%d ms behind the time before it", o.Behind))
	}
	if s, _ := specOf(o.Group, o.Variation); s.status {
		said = append(said, fmt.Sprintf("status %d", o.Status))
	}
	return strings.Join(said, ", ")
}

// Words are a control in words: "latch on", "close, pulse on for 500 ms".
func (c *Control) Words() string {
	word := [...]string{"nothing", "pulse on", "pulse off", "latch on", "latch off"}
	said := fmt.Sprintf("operation %d", c.Code&0x0F)
	if int(c.Code&0x0F) < len(word) {
		said = word[c.Code&0x0F]
	}
	switch c.Code & 0xC0 {
	case 0x40:
		said = "close, " + said
	case 0x80:
		said = "trip, " + said
	}
	if c.Count != 1 {
		said += fmt.Sprintf(", %d times", c.Count)
	}
	if c.On > 0 || c.Off > 0 {
		said += fmt.Sprintf(", on for %d ms, off for %d ms", c.On, c.Off)
	}
	return said
}
