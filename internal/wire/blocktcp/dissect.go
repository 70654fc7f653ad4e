package blocktcp

import (
	"encoding/binary"
	"fmt"

	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/blocktcp"
	"ferry/internal/wire/isotcp"
)

// dissection labels the octets of one stretch of a stream.
type dissection struct {
	fields []exchange.Field
	at     int // what is labelled up to here
}

func (d *dissection) add(octets int, label, role, meaning string) {
	if octets > 0 {
		d.fields = append(d.fields,
			exchange.Field{From: d.at, To: d.at + octets, Label: label, Role: role, Meaning: meaning})
		d.at += octets
	}
}

// DissectRequest labels the octets of a request.
func DissectRequest(b []byte) []exchange.Field {
	d := dissection{}
	d.frames(b, nil, nil)
	return d.fields
}

// DissectAnswer labels the octets of an answer, those of its data with the
// points that they hold.
func DissectAnswer(request, b []byte, points []exchange.Labelled) []exchange.Field {
	d := dissection{}
	var items []Item
	if t, err := isotcp.ParseTPDU(request); err == nil && t.Kind == isotcp.Data {
		if m, err := ParseMessage(t.Rest); err == nil {
			items, _, _ = ParseItems(&m) // what it is not is no read
		}
	}
	d.frames(b, items, points)
	return d.fields
}

func (d *dissection) frames(b []byte, items []Item, points []exchange.Labelled) {
	for d.at < len(b) {
		rest := b[d.at:]
		length, err := Frame(rest)
		if err != nil || length == 0 {
			what := "the rest of the frame is missing"
			if err != nil {
				what = err.Error()
			}
			d.add(len(rest), "broken", "broken", what)
			return
		}
		d.frame(rest[:length], items, points)
	}
}

// kinds of TPDU in words.
var kinds = map[byte]string{isotcp.ConnectRequest: "request to connect", isotcp.ConnectConfirm: "takes the connection",
	isotcp.Disconnect: "refuses or ends the connection", isotcp.Data: "data", isotcp.Error: "error"}

func (d *dissection) frame(b []byte, items []Item, points []exchange.Labelled) {
	end := d.at + len(b)
	d.add(2, "version", "frame", "3, RFC 1006")
	d.add(2, "length", "frame", fmt.Sprintf("%d octets", len(b)))
	t, err := isotcp.ParseTPDU(b)
	if err != nil {
		d.add(end-d.at, "broken", "broken", err.Error())
		return
	}
	d.add(1, "length of the head", "frame", fmt.Sprint(b[isotcp.Head]))
	switch t.Kind {
	case isotcp.Data:
		d.add(1, "kind", "frame", kinds[t.Kind])
		d.add(1, "number", "frame", map[bool]string{true: "the last part", false: "more follows"}[t.Last])
		d.add(end-len(t.Rest)-d.at, "options", "frame", "")
		d.message(t.Rest, items, points)
	case isotcp.ConnectRequest, isotcp.ConnectConfirm:
		d.add(1, "kind", "frame", kinds[t.Kind])
		d.add(2, "to", "frame", "reference of the far end")
		d.add(2, "from", "frame", "reference of this end")
		d.add(1, "class", "frame", fmt.Sprint(b[isotcp.Head+6]>>4))
		d.options(b[d.at-(end-len(b)) : isotcp.Head+1+int(b[isotcp.Head])])
	default:
		d.add(1, "kind", "broken", fmt.Sprintf("%s, reason %d", kinds[t.Kind], t.Reason))
	}
	d.add(end-d.at, "rest", "frame", "")
}

// options labels the variable part of a request to connect.
func (d *dissection) options(b []byte) {
	for len(b) >= 2 && len(b) >= 2+int(b[1]) {
		n := 2 + int(b[1])
		label, meaning := "option", fmt.Sprintf("% X", b[2:n])
		switch b[0] {
		case 0xC0:
			label = "size of a isotcp.TPDU"
			if n == 3 {
				meaning = fmt.Sprintf("%d octets", 1<<min(b[2], 15))
			}
		case 0xC1:
			label = "calling selector"
		case 0xC2:
			label = "called selector"
			if n == 4 {
				meaning = fmt.Sprintf("%02X %02X: rack %d, slot %d", b[2], b[3], b[3]/32, b[3]%32)
			}
		}
		d.add(n, label, "frame", meaning)
		b = b[n:]
	}
}

func functionWord(code byte) string {
	if word, ok := map[byte]string{Read: "read items", Write: "write items", Setup: "set the session up",
		0: "about the device"}[code]; ok {
		return fmt.Sprintf("%02X %s", code, word)
	}
	return fmt.Sprintf("%02X", code)
}

func (d *dissection) message(b []byte, items []Item, points []exchange.Labelled) {
	m, err := ParseMessage(b)
	if err != nil {
		d.add(len(b), "broken", "broken", err.Error())
		return
	}
	d.add(1, "message", "frame", "")
	d.add(1, "kind", "frame",
		map[byte]string{Job: "job", Ack: "answer", AckData: "answer with data", UserData: "about the device"}[m.Kind])
	d.add(2, "reserved", "frame", "")
	d.add(2, "reference", "frame", fmt.Sprint(m.Ref))
	d.add(2, "parameters", "frame", fmt.Sprintf("%d octets", len(m.Params)))
	d.add(2, "data", "frame", fmt.Sprintf("%d octets", len(m.Data)))
	if headOf(m.Kind) == 12 {
		role, meaning := "frame", "no error"
		if m.Class != 0 || m.Code != 0 {
			role, meaning = "broken", family.Def.Decline(family.CodeOf(m.Class, m.Code)).Title
		}
		d.add(2, "error class and code", role, meaning)
	}
	end := d.at + len(m.Params)
	if len(m.Params) > 0 {
		d.add(1, "function", "frame", functionWord(m.Params[0]))
	}
	switch {
	case m.Kind != UserData && len(m.Params) == 8 && m.Params[0] == Setup:
		d.add(1, "reserved", "frame", "")
		d.add(4, "jobs at once", "data",
			fmt.Sprintf("%d asked, %d answered", binary.BigEndian.Uint16(m.Params[2:]),
				binary.BigEndian.Uint16(m.Params[4:])))
		d.add(2, "message size", "data", fmt.Sprintf("%d octets", binary.BigEndian.Uint16(m.Params[6:])))
	case m.Kind == Job && len(m.Params) > 1:
		asked, _, err := ParseItems(&m)
		if err != nil {
			d.add(end-d.at, "broken", "broken", err.Error())
			break
		}
		d.add(1, "items", "frame", fmt.Sprint(len(asked)))
		for i := range asked {
			d.add(12, fmt.Sprintf("item %d", i+1), "data", itemWords(&asked[i]))
		}
		if m.Params[0] == Write {
			items = asked
		}
	case m.Kind == AckData && len(m.Params) > 1:
		d.add(1, "items", "frame", fmt.Sprint(m.Params[1]))
	}
	d.add(end-d.at, "parameters", "frame", "")
	d.data(&m, items, points)
}

func itemWords(it *Item) string {
	if it.Bit >= 0 {
		return "bit " + block.WithBit(block.At(it.Area, it.Start), it.Bit).String()
	}
	return fmt.Sprintf("%d octets from %s", it.Count, block.At(it.Area, it.Start))
}

// data labels the data of a message, item by item where they are known.
func (d *dissection) data(m *Message, items []Item, points []exchange.Labelled) {
	end := d.at + len(m.Data)
	if m.Kind == AckData && len(m.Params) > 0 && m.Params[0] == Write {
		for i, code := range m.Data {
			d.code(1, fmt.Sprintf("item %d", i+1), code)
		}
		return
	}
	isRead := m.Kind == AckData && len(m.Params) > 0 && m.Params[0] == Read
	if !isRead && (m.Kind != Job || len(items) == 0) {
		d.add(end-d.at, "data", "data", "")
		return
	}
	rest := m.Data
	for i := range items {
		code, octets, after, err := parseData(rest, i+1 < len(items))
		if err != nil {
			d.add(end-d.at, "broken", "broken", err.Error())
			return
		}
		if isRead {
			d.code(1, fmt.Sprintf("item %d", i+1), code)
		} else {
			d.add(1, fmt.Sprintf("item %d", i+1), "frame", "")
		}
		d.add(1, "type", "frame", "")
		d.add(2, "length", "frame", fmt.Sprintf("%d octets", len(octets)))
		if r := items[i].Range; isRead && len(octets) == r.Count && code == family.Done {
			d.fields = append(d.fields, exchange.SpreadUnits(d.at, 1, r, points)...)
			d.at += len(octets)
		} else {
			d.add(len(octets), "data", "data", "")
		}
		d.add(len(rest)-4-len(octets)-len(after), "filled up", "frame", "to an even length")
		rest = after
	}
	d.add(end-d.at, "data", "broken", "more than was asked for")
}

func (d *dissection) code(octets int, label string, code byte) {
	if code == family.Done {
		d.add(octets, label, "frame", "FF done")
		return
	}
	d.add(octets, label, "broken", fmt.Sprintf("%02X %s", code, family.Def.Decline(int(code)).Title))
}
