package mqtt

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/mqtt"
)

// The control packets (MQTT 3.1.1, clause 2.2.1; MQTT 5, clause 2.1.2).
const (
	Connect = 1 + iota
	ConnectAck
	Publish
	PublishAck
	PublishReceived
	PublishRelease
	PublishComplete
	Subscribe
	SubscribeAck
	Unsubscribe
	UnsubscribeAck
	Ping
	Pong
	Disconnect
	authenticate
)

var packetWords = map[int]string{Connect: "connect", ConnectAck: "connected", Publish: "publish",
	PublishAck: "acknowledge", PublishReceived: "received", PublishRelease: "release", PublishComplete: "complete",
	Subscribe: "subscribe", SubscribeAck: "subscribed", Unsubscribe: "unsubscribe", UnsubscribeAck: "unsubscribed",
	Ping: "sign of life", Pong: "sign of life", Disconnect: "disconnect", authenticate: "authenticate"}

// mostPacket bounds what is put together of one packet that is heard, in octets. Longer
// ones go by.
const mostPacket = 1 << 20

// Frame returns the length of the packet that begins with b: a first octet, and the octets
// that follow in up to four of seven bits, the lowest first (MQTT 5, clause 1.5.5). It is 0
// where b is too short to tell, and an error where it is over most or no packet at all.
func Frame(b []byte, most int) (int, error) {
	if len(b) == 0 {
		return 0, nil
	}
	if kind := Kind(b); kind < Connect || kind > authenticate {
		return 0, fmt.Errorf("no packet begins with %02X", b[0])
	}
	n, shift := 0, 0
	for i, c := range b[1:] {
		if i == 4 {
			return 0, errors.New("the length of the packet has more than four octets")
		}
		n |= int(c&0x7F) << shift
		if shift += 7; c&0x80 == 0 {
			if n > most {
				return 0, fmt.Errorf("a packet of %d octets: %d are the most", n, most)
			}
			return 2 + i + n, nil
		}
	}
	return 0, nil
}

// Kind is which packet begins with b, which is not empty.
func Kind(b []byte) int { return int(b[0] >> 4) }

// Number is that by which a packet and its confirmation belong together, 0 where it has
// none (clause 2.2.1).
func Number(b []byte) uint16 {
	rest := body(b)
	if Kind(b) == Publish {
		_, after, ok := text(rest)
		if b[0]>>1&3 == 0 || !ok {
			return 0
		}
		rest = after
	}
	if len(rest) < 2 {
		return 0
	}
	return binary.BigEndian.Uint16(rest)
}

// Topic is that of a message, empty where it has none.
func Topic(b []byte) string {
	if Kind(b) != Publish {
		return ""
	}
	topic, _, _ := text(body(b))
	return topic
}

// body is what follows the head of a packet.
func body(b []byte) []byte {
	i := 1
	for i < len(b) && b[i]&0x80 != 0 {
		i++
	}
	return b[min(i+1, len(b)):]
}

// text reads a string of two octets of length (clause 1.5.4), and what follows it.
func text(b []byte) (s string, rest []byte, ok bool) {
	if len(b) < 2 {
		return "", nil, false
	}
	n := int(binary.BigEndian.Uint16(b))
	if len(b) < 2+n {
		return "", nil, false
	}
	return string(b[2 : 2+n]), b[2+n:], true
}

// properties returns how many octets those of version 5 take with their length (clause
// 2.2.2), which is what b begins with.
func properties(b []byte) (n int, ok bool) {
	shift := 0
	for i, c := range b[:min(4, len(b))] {
		n |= int(c&0x7F) << shift
		if shift += 7; c&0x80 == 0 {
			n += i + 1
			return n, n <= len(b)
		}
	}
	return 0, false
}

// payloadOf is what a message tells, of a version that is 0 where it is not known: then
// properties are taken to be there where they are empty.
func payloadOf(b []byte, version byte) []byte {
	_, rest, ok := text(body(b))
	if !ok {
		return nil
	}
	if b[0]>>1&3 > 0 {
		rest = rest[min(2, len(rest)):]
	}
	if version >= 5 || version == 0 && len(rest) > 0 && rest[0] == 0 {
		if n, ok := properties(rest); ok {
			return rest[n:]
		}
	}
	return rest
}

// Mask writes stars over the password in a connect, and over all of one that cannot be
// made out.
func Mask(b []byte) {
	if len(b) == 0 || Kind(b) != Connect {
		return
	}
	fields, whole := connectFields(b)
	from, to := 2, len(b) // nothing is known of it
	if whole {
		at := slices.IndexFunc(fields, func(f exchange.Field) bool { return f.Label == "password" })
		if at < 0 {
			return
		}
		from, to = fields[at].From+2, fields[at].To
	}
	for i := from; i < to; i++ {
		b[i] = '*'
	}
}

// Labels says what the octets of a packet are.
func Labels(b []byte) []exchange.Field {
	if len(b) < 2 {
		return nil
	}
	switch Kind(b) {
	case Connect:
		fields, _ := connectFields(b)
		return fields
	case Publish:
		return messageFields(b)
	}
	w := begin(b)
	switch Kind(b) {
	case ConnectAck:
		w.octet("session", func(c byte) string { return map[byte]string{0: "new", 1: "goes on"}[c&1] })
		w.octet("code", reason)
	case PublishAck, PublishReceived, PublishRelease, PublishComplete:
		w.number("number")
		w.octet("code", reason)
	case Subscribe, Unsubscribe:
		w.filters()
	case SubscribeAck, UnsubscribeAck:
		w.number("number")
		if n, ok := properties(w.rest()); ok && n < len(w.rest()) && w.rest()[0] == 0 && len(w.rest()) > 1 {
			w.take(n, "properties", "frame", "")
		}
		for len(w.rest()) > 0 && !w.short {
			w.octet("code", reason)
		}
	case Disconnect:
		w.octet("code", reason)
	}
	return w.end("properties")
}

func reason(c byte) string {
	if c == 0 {
		return "done"
	}
	if c <= 2 {
		return "granted, service " + strconv.Itoa(int(c))
	}
	return family.TCP.Decline(int(c)).Title
}

// walk goes through the octets of a packet.
type walk struct {
	octets []byte
	at     int
	fields []exchange.Field
	short  bool // fewer octets are there than belong there
}

// begin labels the head of a packet.
func begin(b []byte) *walk {
	w := &walk{octets: b}
	n := len(b) - len(body(b))
	said := packetWords[Kind(b)]
	if Kind(b) == Publish {
		said += ", service " + strconv.Itoa(int(b[0]>>1&3))
		if b[0]&1 != 0 {
			said += ", retained"
		}
		if b[0]&8 != 0 {
			said += ", again"
		}
	}
	w.take(1, "packet", "frame", said)
	w.take(n-1, "octets follow", "frame", strconv.Itoa(len(b)-n))
	return w
}

func (w *walk) rest() []byte { return w.octets[w.at:] }

func (w *walk) take(n int, label, role, meaning string) []byte {
	if n <= 0 || w.short || n > len(w.rest()) {
		w.short = w.short || n > len(w.rest())
		return nil
	}
	taken := w.octets[w.at : w.at+n]
	w.fields = append(w.fields, exchange.Field{From: w.at, To: w.at + n, Label: label, Role: role, Meaning: meaning})
	w.at += n
	return taken
}

func (w *walk) octet(label string, says func(byte) string) {
	if len(w.rest()) == 0 {
		return // version 5 leaves off a code that is 0
	}
	w.take(1, label, "frame", says(w.rest()[0]))
}

func (w *walk) number(label string) {
	said := ""
	if len(w.rest()) >= 2 {
		said = strconv.Itoa(int(binary.BigEndian.Uint16(w.rest())))
	}
	w.take(2, label, "frame", said)
}

// text labels a string with its length.
func (w *walk) text(label, role string, shown bool) string {
	s, after, ok := text(w.rest())
	if !ok {
		w.short = true
		return ""
	}
	said := ""
	if shown {
		said = Shown([]byte(s))
	}
	w.take(len(w.rest())-len(after), label, role, said)
	return s
}

// filters labels what is subscribed to, of either version.
func (w *walk) filters() {
	w.number("number")
	for _, properly := range []bool{false, true} {
		try := *w
		try.fields = slices.Clone(w.fields)
		if properly {
			n, ok := properties(try.rest())
			if !ok {
				break
			}
			try.take(n, "properties", "frame", "")
		}
		for len(try.rest()) > 0 && !try.short {
			if topic := try.text("topic", "data", true); topic == "" || !utf8.ValidString(topic) {
				try.short = true
			}
			if Kind(w.octets) == Subscribe {
				if len(try.rest()) == 0 {
					try.short = true
				}
				try.octet("service", func(c byte) string { return strconv.Itoa(int(c & 3)) })
			}
		}
		if !try.short {
			*w = try
			return
		}
	}
}

// end labels what is left.
func (w *walk) end(label string) []exchange.Field {
	role := "frame"
	if w.short {
		label, role = "cut short", "broken"
	}
	w.short = false
	w.take(len(w.rest()), label, role, "")
	return w.fields
}

// connectFields labels a connect (MQTT 5, clause 3.1); whole is false where it does not
// hold what its flags say.
func connectFields(b []byte) (fields []exchange.Field, whole bool) {
	w := begin(b)
	w.text("protocol", "frame", true)
	var version, flags byte
	w.octet("version", func(c byte) string { version = c; return map[byte]string{3: "3.1", 4: "3.1.1", 5: "5"}[c] })
	w.octet("flags", func(c byte) string {
		flags = c
		var said []string
		for _, f := range []struct {
			bit  byte
			says string
		}{{0x02, "new session"}, {0x04, "will"}, {0x20, "will retained"}, {0x80, "user"}, {0x40, "password"}} {
			if c&f.bit != 0 {
				said = append(said, f.says)
			}
		}
		return strings.Join(said, ", ")
	})
	w.number("sign of life every, s")
	listed := func() {
		if version < 5 {
			return
		}
		n, ok := properties(w.rest())
		if !ok {
			n = len(w.rest()) + 1
		}
		w.take(n, "properties", "frame", "")
	}
	listed()
	w.text("client id", "data", true)
	if flags&0x04 != 0 {
		listed()
		w.text("will topic", "data", true)
		w.text("will", "data", true)
	}
	if flags&0x80 != 0 {
		w.text("user", "data", true)
	}
	if flags&0x40 != 0 {
		w.text("password", "data", false)
	}
	whole = !w.short && len(w.rest()) == 0
	return w.end("beyond its end"), whole
}

// messageFields labels a message (clause 3.3).
func messageFields(b []byte) []exchange.Field {
	w := begin(b)
	w.text("topic", "data", true)
	if b[0]>>1&3 > 0 {
		w.number("number")
	}
	if !w.short {
		payload := payloadOf(b, 0)
		w.take(len(w.rest())-len(payload), "properties", "frame", "")
		if len(payload) > 0 {
			w.take(len(payload), "payload", "data", Shown(payload))
		}
	}
	return w.end("cut short")
}

// mostShown is how many octets of a text are shown.
const mostShown = 120

// Shown is octets as text: such that is none is shown as its octets.
func Shown(b []byte) string {
	cut, more := b, ""
	if len(cut) > mostShown {
		cut, more = cut[:mostShown], "…"
	}
	if s := strings.ToValidUTF8(string(cut), ""); len(s) >= len(cut)-3 && !strings.ContainsFunc(s, func(r rune) bool {
		return r < ' ' && r != '\t' && r != '\n' && r != '\r'
	}) {
		return s + more
	}
	return fmt.Sprintf("% X", cut[:min(len(cut), 24)]) + more
}
