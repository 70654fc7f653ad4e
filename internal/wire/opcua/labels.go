package opcua

import (
	"encoding/binary"
	"fmt"
	"strings"

	"ferry/internal/core/exchange"
)

// Labels says what the octets of a chunk or of the beginning of a connection are. Of a body it
// says which message it is.
func Labels(b []byte) (fields []exchange.Field) {
	if _, err := Length(b); err != nil {
		return nil
	}
	at := 0
	add := func(n int, label, role, meaning string) {
		if n = min(n, len(b)-at); n > 0 {
			fields = append(fields, exchange.Field{From: at, To: at + n, Label: label, Role: role, Meaning: meaning})
			at += n
		}
	}
	number := func(label string) {
		if len(b)-at >= 4 {
			add(4, label, "frame", fmt.Sprint(binary.LittleEndian.Uint32(b[at:])))
		}
	}
	rest := func(label string) { add(len(b)-at, label, "data", "") }
	kind := string(b[:3])
	add(3, "kind", "frame", kinds[kind])
	add(1, "last", "frame", map[byte]string{'F': "the last chunk", 'C': "more follows", 'A': "given up"}[b[3]])
	number("octets")
	if kind == hello || kind == acknowledge || kind == failure {
		rest("what this end takes, or why it ends")
		return fields
	}
	number("channel")
	if kind == OpenChannel {
		d := &decoder{b: b[at:]}
		policy := d.text()
		d.octets()
		d.octets()
		if d.err != nil {
			rest("cut short")
			return fields
		}
		add(len(b)-at-len(d.b), "security", "frame", policy)
		if !strings.HasSuffix(policy, "#None") {
			rest("enciphered")
			return fields
		}
	} else {
		number("token")
	}
	number("number")
	number("request")
	d := &decoder{b: b[at:]}
	if id := d.expanded(); d.err == nil && id.NodeID.Namespace() == 0 {
		if of, known := services[id.NodeID.IntID()]; known {
			add(len(b)-at-len(d.b), "message", "frame", of.Name())
		}
	}
	rest("body")
	return fields
}

var kinds = map[string]string{hello: "the beginning of a connection", acknowledge: "the answer to it",
	failure: "its end, with a reason", OpenChannel: "opens a channel, or makes new keys", AnyMessage: "a message",
	CloseChannel: "closes the channel"}
