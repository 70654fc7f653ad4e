package opcua

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"ferry/internal/core/exchange"
)

// Labels says what octets are that hold one chunk, or several, or the beginning of a connection.
// What is enciphered stays so. Points are put over the values that they came from.
func Labels(b []byte, points []exchange.Labelled) []exchange.Field {
	l := &labels{b: b}
	for l.at < len(b) {
		n, err := Length(b[l.at:])
		if err != nil || l.at+n > len(b) {
			why := "the chunk is cut short"
			if err != nil {
				why = err.Error()
			}
			l.add(len(b)-l.at, "no chunk", "broken", why)
			break
		}
		l.chunk(l.at + n)
	}
	return overlaid(l.ordered(), points)
}

// ordered are the fields as they follow each other; octets of which nothing was said are one, too.
func (l *labels) ordered() (list []exchange.Field) {
	slices.SortStableFunc(l.fields, func(a, b exchange.Field) int { return cmp.Compare(a.From, b.From) })
	at := 0
	for _, f := range l.fields {
		if f.From > at {
			list = append(list, exchange.Field{From: at, To: f.From, Label: "octets", Role: "data"})
		}
		if f.From = max(f.From, at); f.From < f.To {
			list = append(list, f)
			at = f.To
		}
	}
	if at < len(l.b) {
		list = append(list, exchange.Field{From: at, To: len(l.b), Label: "octets", Role: "data"})
	}
	return list
}

// labels goes through octets from the front.
type labels struct {
	b      []byte
	at     int
	fields []exchange.Field
	parts  []part // of the message that is not whole yet
}

// part is where some of a body stands.
type part struct{ from, to int }

func (l *labels) add(n int, label, role, meaning string) {
	if n = min(n, len(l.b)-l.at); n > 0 {
		l.fields = append(l.fields, exchange.Field{From: l.at, To: l.at + n, Label: label, Role: role, Meaning: meaning})
		l.at += n
	}
}

func (l *labels) number(label string, end int) {
	if end-l.at >= 4 {
		l.add(4, label, "frame", fmt.Sprint(binary.LittleEndian.Uint32(l.b[l.at:])))
	}
}

// chunk labels what goes up to end.
func (l *labels) chunk(end int) {
	kind, final := string(l.b[l.at:l.at+3]), l.b[l.at+3]
	l.add(3, "kind", "frame", kinds[kind])
	l.add(1, "last", "frame", map[byte]string{'F': "the last chunk", 'C': "more follows", 'A': "given up"}[final])
	l.number("octets", end)
	switch kind {
	case hello, acknowledge:
		for _, label := range []string{"version", "takes chunks of", "sends chunks of", "takes messages of",
			"in so many chunks"} {
			l.number(label, end)
		}
		l.text("endpoint", end)
		l.add(end-l.at, "left over", "broken", "")
		return
	case failure:
		if end-l.at >= 4 {
			l.add(4, "Error", "data", meaning(reflect.ValueOf(statusAt(l.b[l.at:]))))
		}
		l.text("Reason", end)
		l.add(end-l.at, "left over", "broken", "")
		return
	}
	l.number("channel", end)
	if kind != OpenChannel {
		l.number("token", end)
	} else {
		d := &decoder{b: l.b[l.at:end]}
		policy := d.text()
		d.octets()
		d.octets()
		if d.err != nil {
			l.add(end-l.at, "security", "broken", "cut short")
			return
		}
		l.add(end-l.at-len(d.b), "security", "frame", policy)
		if head := l.b[l.at:end]; !strings.HasSuffix(policy, "#None") && !readable(head) {
			l.add(len(head), "enciphered", "data", "")
			return
		}
	}
	l.number("number", end)
	l.number("request", end)
	l.parts = append(l.parts, part{l.at, end})
	if l.at = end; final != 'C' {
		l.body()
	}
}

// text labels a text with its length before it.
func (l *labels) text(label string, end int) {
	d := &decoder{b: l.b[l.at:end]}
	if said := d.text(); d.err == nil && end > l.at {
		l.add(end-l.at-len(d.b), label, "data", short(said))
	}
}

// readable reports whether a message begins behind the numbers of a chunk.
func readable(b []byte) bool {
	if len(b) < 8 {
		return false
	}
	_, of := serviceOf(b[8:])
	return of != nil
}

// serviceOf is the number of a message and what it holds, nil for none that is known.
func serviceOf(body []byte) (id uint32, of reflect.Type) {
	d := &decoder{b: body}
	kind := d.expanded()
	if d.err != nil || kind.NodeID.Namespace() != 0 {
		return 0, nil
	}
	id = kind.NodeID.IntID()
	return id, services[id]
}

// signatures are how long those of the policies are, in octets: none, HMAC-SHA1, HMAC-SHA256.
var signatures = []int{0, 32, 20}

// body labels the body that stands in the parts.
func (l *labels) body() {
	parts := l.parts
	l.parts = nil
	var best *decoder
	var signature int
	for _, n := range signatures {
		body := joinedParts(l.b, parts, n)
		d := &decoder{b: body, end: len(body), trace: &trace{}}
		from := d.at()
		if id := d.expanded(); d.err != nil || id.NodeID.Namespace() != 0 || services[id.NodeID.IntID()] == nil {
			continue
		} else {
			of := services[id.NodeID.IntID()]
			d.trace.add(from, d.at(), "message", of.Name())
			d.whole(reflect.New(of).Interface())
		}
		if best == nil {
			best, signature = d, n
		}
		if d.err == nil && len(d.b) == 0 {
			best, signature = d, n
			break
		}
	}
	if best == nil {
		for _, p := range parts {
			l.fields = append(l.fields, exchange.Field{From: p.from, To: p.to, Label: "body", Role: "data",
				Meaning: "enciphered, or of no message that is known"})
		}
		return
	}
	done := 0
	for _, f := range best.trace.fields {
		l.spread(parts, signature, f)
		done = f.To
	}
	size := len(joinedParts(l.b, parts, signature))
	if done < size {
		rest := exchange.Field{From: done, To: size, Label: "the rest", Role: "data", Meaning: "more than is told one by one"}
		if best.err != nil {
			rest.Role, rest.Meaning = "broken", best.err.Error()
		} else if len(best.trace.fields) < mostFields {
			rest.Role, rest.Meaning = "broken", "octets are left behind the message"
		}
		l.spread(parts, signature, rest)
	}
	for _, p := range parts {
		if signature > 0 {
			l.fields = append(l.fields, exchange.Field{From: p.to - signature, To: p.to, Label: "signature", Role: "frame"})
		}
	}
}

// joinedParts is a body out of its parts, each without its signature.
func joinedParts(b []byte, parts []part, signature int) []byte {
	if len(parts) == 1 {
		return b[parts[0].from:max(parts[0].from, parts[0].to-signature)]
	}
	var body []byte
	for _, p := range parts {
		body = append(body, b[p.from:max(p.from, p.to-signature)]...)
	}
	return body
}

// spread puts a field of a body where its octets stand.
func (l *labels) spread(parts []part, signature int, f exchange.Field) {
	passed := 0
	for _, p := range parts {
		size := max(0, p.to-p.from-signature)
		from, to := max(f.From-passed, 0), min(f.To-passed, size)
		if from < to {
			one := f
			one.From, one.To = p.from+from, p.from+to
			l.fields = append(l.fields, one)
		}
		passed += size
	}
}

// overlaid puts points over the values that they came from.
func overlaid(fields []exchange.Field, points []exchange.Labelled) []exchange.Field {
	at := 0
	for _, p := range points {
		for i := range fields {
			k := (at + i) % len(fields)
			if f := &fields[k]; p.From < p.To && f.From >= p.From && f.To <= p.To {
				// Of a value the last field is what it holds, those before it its type.
				for k+1 < len(fields) && fields[k+1].To <= p.To && fields[k+1].From >= p.From {
					k++
				}
				fields[k].Label, fields[k].Role, fields[k].Meaning, fields[k].Point = p.Name, "point", p.Shown, p.ID
				at = k
				break
			}
		}
	}
	return fields
}

var kinds = map[string]string{hello: "the beginning of a connection", acknowledge: "the answer to it",
	failure: "its end, with a reason", OpenChannel: "opens a channel, or makes new keys", AnyMessage: "a message",
	CloseChannel: "closes the channel"}
