package opcua

import (
	"encoding/binary"
	"errors"
	"fmt"
	"reflect"
	"strings"
	"time"

	"github.com/gopcua/opcua/ua"

	"ferry/internal/core/capture"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/opcua"
)

func init() {
	capture.Register(&capture.Speech{Protocol: family.TCP.Name, Recognise: recognise, AskerOf: askerOf,
		New: func(_ *capture.Conn, heard func(*capture.Heard)) capture.Reader {
			e := &ear{requests: map[uint32]any{}, asks: newAsks()}
			e.waiting = capture.Waiting{Heard: heard, Overlaps: true}
			e.told = newTold(heard)
			return e
		},
		Words:    words,
		Question: func(b []byte) []exchange.Field { return Labels(b, nil) },
		Answer:   func(_, b []byte, points []exchange.Labelled) []exchange.Field { return Labels(b, points) }})
}

// recognise looks for the beginning of a connection, or for chunks one after the other.
func recognise(said [2][]byte) capture.Fit {
	fit := capture.Not
	for _, b := range said {
		if len(b) == 0 {
			continue
		}
		if len(b) < 8 {
			if kinds[string(b[:min(3, len(b))])] != "" || len(b) < 3 {
				fit = max(fit, capture.Unsure)
			}
			continue
		}
		n, err := Length(b)
		if err != nil || b[3] != 'F' && b[3] != 'C' && b[3] != 'A' {
			return capture.Not
		}
		if fit = max(fit, capture.Likely); string(b[:3]) == hello || n == len(b) {
			return capture.Certain
		}
		if n+8 <= len(b) { // what follows has such a head, too
			if _, err := Length(b[n:]); err == nil {
				return capture.Certain
			}
		}
	}
	return fit
}

// askerOf looks for what clients alone say, or servers.
func askerOf(said [2][]byte) (first, known bool) {
	for side, b := range said {
		for len(b) >= 8 {
			n, err := Length(b)
			if err != nil {
				break
			}
			switch string(b[:3]) {
			case hello, CloseChannel:
				return side == 0, true
			case acknowledge, failure:
				return side == 1, true
			case AnyMessage:
				if n <= len(b) && n > plainHead {
					if _, of := serviceOf(b[plainHead:n]); of != nil {
						return (side == 0) == strings.HasSuffix(of.Name(), "Request"), true
					}
				}
			}
			b = b[min(n, len(b)):]
		}
	}
	return false, false
}

// plainHead is how long the headers of a message's chunk are: kind, size, channel, token, number
// and request.
const plainHead = 24

// heardLen is Length for what is heard: 0 where more octets are needed.
func heardLen(b []byte) (int, error) {
	if len(b) < 8 {
		return 0, nil
	}
	return Length(b)
}

// The references of exchanges that have no number of their own, or whose number cannot be read.
const (
	ofHello = 1<<40 + iota
	ofOpen
)

// ear hears the exchanges of one connection.
type ear struct {
	waiting  capture.Waiting
	frames   [2]capture.Frames
	parts    [2]map[uint32]*unfinished
	last     capture.Piece // that the answerer said, without its octets
	greeting bool          // it waits for the answer to the first message
	plain    bool          // a policy was heard, which is none
	sealed   int           // chunks that cannot be read
	requests map[uint32]any
	asks     asks // questions for news
	told     *told
}

// unfinished is a message of which not all chunks have come.
type unfinished struct {
	chunks []byte
	parts  []part
}

// Bounds of what is kept of one connection.
const (
	mostUnfinished       = 16
	mostUnfinishedOctets = 4 << 20
	mostSealed           = 500
	mostRequests         = 64
)

// Said implements capture.Reader.
func (e *ear) Said(p capture.Piece) {
	if p.Side == capture.Answerer {
		e.last = p
		e.last.Octets = nil
	}
	e.frames[p.Side].Take(p.Octets, heardLen, func(b []byte) { e.chunk(p, b) },
		func(octets []byte, err error) { e.waiting.Broken(p, octets, err.Error()) })
}

// seal tells of a chunk that cannot be read.
func (e *ear) seal(p capture.Piece, b []byte) {
	if e.sealed++; e.sealed <= mostSealed {
		e.waiting.Stray(p, b, capture.Sealed)
	}
}

func (e *ear) chunk(p capture.Piece, b []byte) {
	switch kind := string(b[:3]); kind {
	case hello:
		e.greeting = true
		e.waiting.Ask(ofHello, &capture.Heard{Station: -1, Greets: true, Asked: p.At, AskedIn: p.Number, Request: b})
	case acknowledge, failure:
		e.begun(p, b)
	case OpenChannel:
		e.opens(p, b)
	default:
		if len(b) < plainHead {
			e.waiting.Broken(p, b, "a chunk is cut short")
			return
		}
		e.joins(p, b, plainHead, binary.LittleEndian.Uint32(b[20:]))
	}
}

// begun is told of the answer to the first message, or of the end of the connection.
func (e *ear) begun(p capture.Piece, b []byte) {
	f, failed := ReadFailure(b)
	fill := func(h *capture.Heard) {
		if failed {
			h.Outcome, h.Code = exchange.Declined, int(uint32(f.Code))
		}
	}
	if e.greeting {
		e.greeting = false
		e.waiting.Answer(ofHello, p, b, fill)
		return
	}
	h := &capture.Heard{Station: -1, Greets: true, Answered: p.At, AnsweredIn: p.Number, Answer: b,
		Outcome: exchange.Reported}
	fill(h)
	e.waiting.Alone(h)
}

// opens is told of the opening of a channel.
func (e *ear) opens(p capture.Piece, b []byte) {
	d := &decoder{b: b[min(12, len(b)):]}
	policy := d.text()
	d.octets()
	d.octets()
	if d.err != nil {
		e.waiting.Broken(p, b, "the opening of the channel is cut short")
		return
	}
	e.plain = e.plain || strings.HasSuffix(policy, "#None")
	body := []byte(nil)
	if readable(d.b) {
		body = d.b[8:]
	}
	if p.Side == capture.Asker {
		id := ua.ServiceTypeID(&ua.OpenSecureChannelRequest{})
		e.waiting.Ask(ofOpen, &capture.Heard{Station: -1, Function: int(id), Greets: true, Asked: p.At, AskedIn: p.Number,
			Request: b})
		return
	}
	e.waiting.Answer(ofOpen, p, b, func(h *capture.Heard) {
		if v, err := readHeard(body); err == nil {
			answered(h, nil, v)
		}
	})
}

// joins puts a chunk to those of its message before it.
func (e *ear) joins(p capture.Piece, b []byte, head int, request uint32) {
	of := e.parts[p.Side][request]
	final := b[3]
	if of == nil && final == 'F' {
		e.message(p, b, b[head:], request)
		return
	}
	if of == nil {
		if e.parts[p.Side] == nil {
			e.parts[p.Side] = map[uint32]*unfinished{}
		}
		if of = (&unfinished{}); len(e.parts[p.Side]) >= mostUnfinished {
			e.seal(p, b) // with keys that nobody has any number may come
			return
		}
		e.parts[p.Side][request] = of
	}
	of.parts = append(of.parts, part{len(of.chunks) + head, len(of.chunks) + len(b)})
	of.chunks = append(of.chunks, b...)
	switch {
	case final == 'A':
		delete(e.parts[p.Side], request)
		if p.Side == capture.Answerer {
			e.waiting.Answer(uint64(request), p, of.chunks, func(h *capture.Heard) {
				h.Outcome, h.Code = exchange.Declined, family.BadUnexpected
				if len(b) >= head+4 {
					h.Code = int(uint32(statusAt(b[head:])))
				}
			})
		}
	case final == 'F' || len(of.chunks) > mostUnfinishedOctets:
		delete(e.parts[p.Side], request)
		body := joinedParts(of.chunks, of.parts, 0)
		for _, n := range signatures {
			body = joinedParts(of.chunks, of.parts, n)
			if _, err := readHeard(body); err == nil {
				break
			}
		}
		e.message(p, of.chunks, body, request)
	}
}

// readHeard is ReadService for a body that a signature may follow.
func readHeard(body []byte) (v any, err error) {
	for _, n := range signatures {
		if n > len(body) {
			break
		}
		v, wrong := ReadService(body[:len(body)-n])
		if wrong == nil {
			return v, nil
		}
		if err == nil {
			err = wrong
		}
	}
	return nil, err
}

// message is told of a whole one: b are its chunks, body what they hold.
func (e *ear) message(p capture.Piece, b, body []byte, request uint32) {
	id, of := serviceOf(body)
	if of == nil && !e.plain {
		e.seal(p, b)
		return
	}
	e.told.silent(p.At, &e.asks)
	if p.Side == capture.Asker {
		e.asked(p, b, body, id, request)
		return
	}
	if asked, news := e.asks.answered(request); news {
		e.news(p, b, body, asked)
		return
	}
	asked := e.requests[request]
	delete(e.requests, request)
	e.waiting.Answer(uint64(request), p, b, func(h *capture.Heard) {
		v, err := readHeard(body)
		var unknown *Unknown
		switch {
		case errors.As(err, &unknown):
		case err != nil:
			h.Outcome, h.Broken = exchange.Garbled, err.Error()
		default:
			answered(h, asked, v)
			e.told.answered(p, h, asked, v)
		}
	})
}

// asked is told of a question.
func (e *ear) asked(p capture.Piece, b, body []byte, id, request uint32) {
	h := capture.Heard{Station: -1, Function: int(id), Asked: p.At, AskedIn: p.Number, Request: b}
	var v any
	switch services[id] {
	case reflect.TypeFor[ua.PublishRequest]():
		e.asks.ask(request, p)
		h.Outcome = exchange.Sent // what comes answers none of them in particular
		e.waiting.Alone(&h)
		return
	case reflect.TypeFor[ua.CloseSecureChannelRequest]():
		h.Outcome = exchange.Sent // nobody answers it
		e.waiting.Alone(&h)
		return
	case reflect.TypeFor[ua.GetEndpointsRequest](), reflect.TypeFor[ua.FindServersRequest](),
		reflect.TypeFor[ua.CreateSessionRequest](), reflect.TypeFor[ua.ActivateSessionRequest]():
		h.Greets = true
	case reflect.TypeFor[ua.WriteRequest]():
		h.Write = true
	case reflect.TypeFor[ua.ReadRequest](), reflect.TypeFor[ua.CreateSubscriptionRequest](),
		reflect.TypeFor[ua.CreateMonitoredItemsRequest](), reflect.TypeFor[ua.DeleteSubscriptionsRequest](),
		reflect.TypeFor[ua.RepublishRequest]():
		v, _ = readHeard(body) // what cannot be read says nothing of the answer
	}
	if v != nil && len(e.requests) < mostRequests {
		e.requests[request] = v
	}
	e.waiting.Ask(uint64(request), &h)
}

// news is told of what the server tells by itself.
func (e *ear) news(p capture.Piece, b, body []byte, asked capture.Piece) {
	h := &capture.Heard{Station: -1, Function: int(ua.ServiceTypeID(&ua.PublishResponse{})), Answered: p.At,
		AnsweredIn: p.Number, Answer: b, Outcome: exchange.Reported}
	v, err := readHeard(body)
	if err != nil {
		h.Outcome, h.Broken = exchange.Garbled, err.Error()
		h.Asked, h.AskedIn = asked.At, asked.Number
		e.waiting.Alone(h)
		return
	}
	if fault, ok := v.(*ua.ServiceFault); ok && fault.ResponseHeader != nil {
		switch code := uint32(fault.ResponseHeader.ServiceResult); code {
		case family.BadTimeout, family.BadTooManyPublish: // it is asked again
		default:
			h.Outcome, h.Code = exchange.Declined, int(code)
		}
	}
	if answer, ok := v.(*ua.PublishResponse); ok {
		e.told.news(p, h, answer)
	}
	e.waiting.Alone(h)
}

// answered says what an answer is.
func answered(h *capture.Heard, asked, v any) {
	r, ok := v.(ua.Response)
	if !ok || r.Header() == nil {
		h.Outcome, h.Broken = exchange.Garbled, fmt.Sprintf("it is a %T", v)
		return
	}
	if code := uint32(r.Header().ServiceResult); code>>30 == 2 {
		h.Outcome, h.Code = exchange.Declined, int(code)
		return
	}
	for _, code := range refusals(asked, v) {
		if code>>30 == 2 {
			h.Outcome, h.Code = exchange.Declined, int(code)
			return
		}
	}
}

// refusals are the codes of single nodes by which a server says that it does not do what is
// asked; what it says of a value is no refusal. That a node has not an attribute is none either, but of its value: who
// looks through a server asks for all that there are.
func refusals(asked, v any) (codes []uint32) {
	switch v := v.(type) {
	case *ua.ReadResponse:
		r, known := asked.(*ua.ReadRequest)
		known = known && len(r.NodesToRead) == len(v.Results)
		for i, value := range v.Results {
			if value == nil || !family.Refuses(uint32(value.Status)) {
				continue
			}
			if value.Status == ua.StatusBadAttributeIDInvalid &&
				!(known && r.NodesToRead[i] != nil && r.NodesToRead[i].AttributeID == ua.AttributeIDValue) {
				continue
			}
			codes = append(codes, uint32(value.Status))
		}
	case *ua.WriteResponse:
		for _, code := range v.Results {
			codes = append(codes, uint32(code))
		}
	case *ua.CreateMonitoredItemsResponse:
		for _, r := range v.Results {
			if r != nil {
				codes = append(codes, uint32(r.StatusCode))
			}
		}
	}
	return codes
}

// Lost implements capture.Reader.
func (e *ear) Lost(side capture.Side, _ int) {
	e.frames[side].Drop()
	e.waiting.Lost()
	e.parts = [2]map[uint32]*unfinished{}
	e.asks = newAsks()
	e.told.lost()
	clear(e.requests)
}

// Finish implements capture.Reader.
func (e *ear) Finish(c *capture.Conn, at time.Time) {
	e.told.silent(at, &e.asks)
	e.told.finish()
	e.waiting.Torn(c, e.last, e.frames[capture.Answerer].Rest())
	e.waiting.Finish(c, at)
}

// words says what is asked for.
func words(h *capture.Heard) string {
	switch {
	case h.Function == 0 && len(h.Request) > 0:
		return "begin the connection"
	case h.Function == 0:
		return "end of the connection"
	}
	of := services[uint32(h.Function)]
	if of == nil {
		return fmt.Sprintf("service %d", h.Function)
	}
	name := strings.TrimSuffix(strings.TrimSuffix(of.Name(), "Request"), "Response")
	var nodes []*ua.NodeID
	if len(h.Request) > plainHead && h.Request[3] == 'F' {
		v, _ := readHeard(h.Request[plainHead:]) // a message in several chunks is only named
		switch v := v.(type) {
		case *ua.ReadRequest:
			for _, n := range v.NodesToRead {
				nodes = append(nodes, n.NodeID)
			}
		case *ua.WriteRequest:
			for _, n := range v.NodesToWrite {
				nodes = append(nodes, n.NodeID)
			}
		case *ua.CreateMonitoredItemsRequest:
			for _, n := range v.ItemsToCreate {
				if n.ItemToMonitor != nil {
					nodes = append(nodes, n.ItemToMonitor.NodeID)
				}
			}
		case *ua.BrowseRequest:
			for _, n := range v.NodesToBrowse {
				nodes = append(nodes, n.NodeID)
			}
		}
	}
	switch {
	case len(nodes) == 0 || nodes[0] == nil:
		return name
	case len(nodes) == 1:
		return name + " " + nodes[0].String()
	}
	return fmt.Sprintf("%s %d nodes, first %s", name, len(nodes), nodes[0])
}
