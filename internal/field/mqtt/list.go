package mqtt

import (
	"bytes"
	"context"
	"encoding/json"
	"slices"
	"strconv"
	"sync"
	"time"
	"unicode/utf8"

	"ferry/internal/core/address"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/mqtt"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	"ferry/internal/field"
)

// listing takes down which topics there are.
type listing struct {
	mu     sync.Mutex
	topics map[string][]byte // a payload of each
}

// mostListed bounds the topics, listenFor is how long messages are waited for, and
// longer than that no topic is quiet whose value is retained.
const (
	mostListed = 20_000
	listenFor  = 2 * time.Second
)

func (l *listing) add(m message) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if _, known := l.topics[m.topic]; known || len(l.topics) < mostListed {
		l.topics[m.topic] = slices.Clone(m.payload)
	}
}

// List tells which topics have a message retained, or get one within two seconds,
// all at once.
func (c *conn) List(string) (held []protocol.Held, next string, reply field.Reply) {
	l := &listing{topics: map[string][]byte{}}
	c.lists.Store(l)
	defer c.lists.Store(nil)
	if reply, ok := c.hearAll("#"); !ok {
		return nil, "", reply
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for topic, payload := range l.topics {
		held = append(held, heldOf(topic, payload)...)
	}
	slices.SortFunc(held, func(a, b protocol.Held) int { return address.Compare(a.Address, b.Address) })
	return held, "", field.Reply{Outcome: exchange.Answered, Left: true}
}

// hearAll listens to a wildcard for as long as a listing takes, and no longer; ok is
// false where that cannot be.
func (c *conn) hearAll(filter string) (reply field.Reply, ok bool) {
	c.socket.tell()
	defer func() { c.socket.witnessed(&reply) }()
	ctx, cancel := context.WithTimeout(c.ctx, c.within)
	codes, err := c.client.subscribe(ctx, []string{filter}, 0)
	cancel()
	if err != nil {
		return c.failed(err), false
	}
	defer func() {
		ctx, cancel := context.WithTimeout(c.ctx, c.within)
		defer cancel()
		if err := c.client.unsubscribe(ctx, filter); err != nil && ok {
			reply, ok = c.failed(err), false
		}
	}()
	if len(codes) > 0 && codes[0] >= 0x80 {
		return field.Reply{Outcome: exchange.Declined, Code: codes[0], Left: true,
			Sentence: "the broker lets nobody subscribe to everything: " + family.TCP.Decline(codes[0]).Title}, false
	}
	select {
	case <-time.After(listenFor):
		return field.Reply{Outcome: exchange.Answered, Left: true}, true
	case <-c.gone:
		return c.Ended(), false
	case <-c.ctx.Done():
		return field.Reply{Outcome: exchange.Closed, Sentence: "it was ended"}, false
	}
}

// heldOf guesses what a topic holds from one of its payloads: each number, text or
// state of an object of JSON is a place.
func heldOf(topic string, payload []byte) []protocol.Held {
	if family.CheckTopic(topic) != nil {
		return nil
	}
	of := func(path string, shape value.Shape, unit string) protocol.Held {
		name := topic
		if path != "" {
			name += " $." + path
		}
		return protocol.Held{Address: address.Named(family.Space, name), Shape: shape, Unit: unit, Writable: true}
	}
	var object map[string]any
	d := json.NewDecoder(bytes.NewReader(payload))
	d.UseNumber()
	if d.Decode(&object) != nil || object == nil {
		return []protocol.Held{of("", shapeOf(string(payload)), "")}
	}
	if v, ok := object["value"]; ok {
		if _, nested := v.(map[string]any); !nested {
			unit, _ := object["unit"].(string)
			return []protocol.Held{of("", shapeOfJSON(v), unit)}
		}
	}
	var held []protocol.Held
	var walk func(path string, object map[string]any)
	walk = func(path string, object map[string]any) {
		for member, v := range object {
			if len(held) >= 500 {
				return
			}
			at := member
			if path != "" {
				at = path + "." + member
			}
			switch v := v.(type) {
			case map[string]any:
				walk(at, v)
			case []any, nil:
			default:
				held = append(held, of(at, shapeOfJSON(v), ""))
			}
		}
	}
	walk("", object)
	return held
}

func shapeOfJSON(v any) value.Shape {
	switch v := v.(type) {
	case bool:
		return value.Shape{Type: value.TypeBool}
	case json.Number:
		return shapeOf(v.String())
	case string:
		return textShape(v)
	}
	return textShape("")
}

func shapeOf(text string) value.Shape {
	if text == "true" || text == "false" {
		return value.Shape{Type: value.TypeBool}
	}
	if _, err := strconv.ParseFloat(text, 64); err == nil {
		return value.Shape{Type: value.TypeFloat64}
	}
	return textShape(text)
}

// textShape is a text with room for others of its kind.
func textShape(text string) value.Shape {
	return value.Shape{Type: value.TypeText, Length: min(246, max(32, 2*utf8.RuneCountInString(text)))}
}
