package enip

import (
	"fmt"
	"slices"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/enip"
)

var commandWords = map[uint16]string{Nop: "nothing", ListServices: "list services", ListIdentity: "list identity",
	ListInterfaces: "list interfaces", Register: "begin a session", Unregister: "end the session", SendRRData: "message",
	SendUnitData: "message over a connection"}

// serviceWord is what a service is called, where a name is asked for in the way of
// controllers with tags.
func serviceWord(service byte, p *Path) string {
	if service == ReadPart && p.Class == ClassConnection {
		return "pass on"
	}
	if service == ModifyTag && len(p.Names) > 0 {
		return "change bits of a tag"
	}
	words := map[byte]string{GetAll: "read all attributes", Reset: "reset", Multiple: "several questions",
		GetSingle: "read attribute",
		SetSingle: "write attribute", ReadTag: "read tag", WriteTag: "write tag", ForwardClose: "end a connection",
		ReadPart: "read part of tag", WritePart: "write part of tag", ForwardOpen: "open a connection", ListTags: "list tags",
		LargeForwardOpen: "open a large connection"}
	if word, ok := words[service]; ok {
		return word
	}
	return fmt.Sprintf("service %02X", service)
}

// Says is a question in words.
func (r *Request) Says() string {
	word := serviceWord(r.Service, &r.Path)
	if where := r.Path.String(); where != "" && r.Service != Multiple && word != "pass on" {
		return word + " " + where
	}
	return word
}

// label goes through octets.
type label struct {
	octets []byte
	at     int
	fields []exchange.Field
}

func (l *label) take(n int, name, role, meaning string) []byte {
	n = min(n, len(l.octets)-l.at)
	if n <= 0 {
		return nil
	}
	l.fields = append(l.fields, exchange.Field{From: l.at, To: l.at + n, Label: name, Role: role, Meaning: meaning})
	l.at += n
	return l.octets[l.at-n : l.at]
}

func (l *label) number(n int, name string) uint32 {
	var v uint32
	if l.at+n <= len(l.octets) {
		for i := range n {
			v |= uint32(l.octets[l.at+i]) << (8 * i)
		}
	}
	l.take(n, name, "frame", fmt.Sprintf("%d", v))
	return v
}

// Labels says what the octets of frames are, one behind the other.
func Labels(octets []byte, points []exchange.Labelled) []exchange.Field {
	l := &label{octets: octets}
	for l.at < len(octets) {
		n, err := FrameLen(octets[l.at:])
		if err != nil || n == 0 || l.at+n > len(octets) {
			why := "the frame is cut short"
			if err != nil {
				why = err.Error()
			}
			l.take(len(octets), "no frame", "broken", why)
			break
		}
		l.frame(l.at + n)
	}
	return overlaid(l.fields, points)
}

// overlaid puts points over the data that they lie in.
func overlaid(fields []exchange.Field, points []exchange.Labelled) []exchange.Field {
	for _, p := range points {
		at := slices.IndexFunc(fields, func(f exchange.Field) bool {
			return f.Role == "data" && p.From >= f.From && p.To <= f.To && p.From < p.To
		})
		if at < 0 {
			continue
		}
		f := fields[at]
		var parts []exchange.Field
		if p.From > f.From {
			before := f
			before.To = p.From
			parts = append(parts, before)
		}
		parts = append(parts, exchange.Field{From: p.From, To: p.To, Label: p.Name, Role: "point", Meaning: p.Shown,
			Point: p.ID})
		if p.To < f.To {
			f.From = p.To
			parts = append(parts, f)
		}
		fields = slices.Replace(fields, at, at+1, parts...)
	}
	return fields
}

func (l *label) frame(end int) {
	command := le.Uint16(l.octets[l.at:])
	l.take(2, "command", "frame", commandWords[command])
	l.number(2, "octets follow")
	l.number(4, "session")
	if status := l.number(4, "status"); status != 0 {
		l.fields[len(l.fields)-1].Meaning = family.Explicit.Decline(family.OfSession(status)).Title
	}
	l.take(8, "context", "frame", "")
	l.take(4, "options", "frame", "")
	whole := l.octets
	l.octets = whole[:end]
	switch {
	case command == SendRRData || command == SendUnitData:
		l.take(4, "interface", "frame", "")
		l.take(2, "time limit", "frame", "")
		l.items()
	case command == ListIdentity && l.at < end:
		if id, err := ParseIdentity(l.octets[l.at:]); err == nil {
			l.take(end-l.at, "identity", "data", family.Identity(id.Name, id.Vendor, id.Type, id.Product, id.Major, id.Minor,
				id.Serial, id.Status))
		}
	}
	l.take(end-l.at, "data", "data", "")
	l.octets = whole
}

func (l *label) items() {
	count := l.number(2, "items")
	for range min(count, mostItems) {
		if l.at+4 > len(l.octets) {
			return
		}
		kind := uint16(l.number(2, "item"))
		n := int(l.number(2, "octets follow"))
		end := min(l.at+n, len(l.octets))
		switch kind {
		case ItemConnected:
			l.number(4, "connection")
		case ItemConnectedData:
			l.number(2, "count")
			l.message(end)
		case ItemUnconnected:
			l.message(end)
		}
		l.take(end-l.at, "data", "data", "")
	}
}

// several labels the messages in one.
func (l *label) several(end int) {
	from := l.at
	messages, err := ParseMultiple(l.octets[from:end])
	if err != nil {
		return
	}
	l.number(2, "messages")
	l.take(2*len(messages), "where each begins", "frame", "")
	for i := range messages {
		at := from + int(le.Uint16(l.octets[from+2+2*i:]))
		l.take(at-l.at, "padding", "frame", "")
		l.message(at + len(messages[i]))
	}
}

// message labels a message of the router.
func (l *label) message(end int) {
	if l.at >= end {
		return
	}
	b := l.octets[l.at:end]
	if b[0]&answers == 0 {
		r, err := ParseRequest(b)
		if err != nil {
			l.take(len(b), "no question", "broken", err.Error())
			return
		}
		l.take(1, "service", "frame", serviceWord(r.Service, &r.Path))
		l.take(1+2*int(b[1]), "path", "frame", r.Path.String())
		if r.Service == Multiple && r.Path.Class == ClassRouter {
			l.several(end)
		}
		if width := 0; r.Service == ModifyTag && len(r.Path.Names) > 0 && len(r.Data) >= 2 {
			width = int(le.Uint16(r.Data))
			l.number(2, "octets of each mask")
			l.take(min(width, end-l.at), "bits that are set", "data", "")
			l.take(min(width, end-l.at), "bits that are not reset", "data", "")
		}
		l.take(end-l.at, "data", "data", "")
		return
	}
	a, err := ParseAnswer(b)
	if err != nil {
		l.take(len(b), "no answer", "broken", err.Error())
		return
	}
	l.take(1, "service", "frame", "answer to "+serviceWord(a.Service, &Path{Class: -1}))
	l.take(1, "reserved", "frame", "")
	says := "done"
	if a.Status != 0 {
		says = family.Explicit.Decline(family.CodeOf(a.Status, a.Extended)).Title
	}
	l.take(1, "status", "frame", says)
	l.take(1, "words of it follow", "frame", "")
	l.take(2*len(a.Extended), "extended status", "frame", "")
	switch {
	case a.Service == Multiple:
		l.several(end)
	case a.Service == ReadTag && a.Status == 0 && l.at+2 <= end:
		l.take(2, "type", "frame", family.Kind(le.Uint16(l.octets[l.at:])).String())
	}
	l.take(end-l.at, "data", "data", "")
}
