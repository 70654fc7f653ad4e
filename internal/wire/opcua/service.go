package opcua

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"reflect"

	"github.com/gopcua/opcua/ua"
)

// services are the messages that are read, by the numbers of their encodings.
var services = map[uint32]reflect.Type{}

func init() {
	for _, v := range []any{&ua.ServiceFault{}, &ua.OpenSecureChannelRequest{}, &ua.OpenSecureChannelResponse{},
		&ua.CloseSecureChannelRequest{},
		&ua.GetEndpointsRequest{}, &ua.GetEndpointsResponse{}, &ua.FindServersRequest{}, &ua.FindServersResponse{},
		&ua.CreateSessionRequest{}, &ua.CreateSessionResponse{}, &ua.ActivateSessionRequest{}, &ua.ActivateSessionResponse{},
		&ua.CloseSessionRequest{}, &ua.CloseSessionResponse{}, &ua.ReadRequest{}, &ua.ReadResponse{}, &ua.WriteRequest{},
		&ua.WriteResponse{},
		&ua.BrowseRequest{}, &ua.BrowseResponse{}, &ua.BrowseNextRequest{}, &ua.BrowseNextResponse{},
		&ua.TranslateBrowsePathsToNodeIDsRequest{}, &ua.TranslateBrowsePathsToNodeIDsResponse{}, &ua.RegisterNodesRequest{},
		&ua.RegisterNodesResponse{}, &ua.UnregisterNodesRequest{}, &ua.UnregisterNodesResponse{},
		&ua.CreateSubscriptionRequest{},
		&ua.CreateSubscriptionResponse{}, &ua.ModifySubscriptionRequest{}, &ua.ModifySubscriptionResponse{},
		&ua.SetPublishingModeRequest{},
		&ua.SetPublishingModeResponse{}, &ua.DeleteSubscriptionsRequest{}, &ua.DeleteSubscriptionsResponse{},
		&ua.CreateMonitoredItemsRequest{}, &ua.CreateMonitoredItemsResponse{}, &ua.ModifyMonitoredItemsRequest{},
		&ua.ModifyMonitoredItemsResponse{}, &ua.SetMonitoringModeRequest{}, &ua.SetMonitoringModeResponse{},
		&ua.DeleteMonitoredItemsRequest{}, &ua.DeleteMonitoredItemsResponse{}, &ua.PublishRequest{}, &ua.PublishResponse{},
		&ua.RepublishRequest{}, &ua.RepublishResponse{}} {
		services[uint32(ua.ServiceTypeID(v))] = reflect.TypeOf(v).Elem()
	}
}

// Unknown is a message of a kind that is not read.
type Unknown struct {
	ID   uint32
	Body []byte // behind the number of the encoding
}

func (u *Unknown) Error() string { return fmt.Sprintf("a message of kind %d is not known", u.ID) }

// Header is what a request begins with; nil where it is none.
func (u *Unknown) Header() *ua.RequestHeader {
	d, h := &decoder{b: u.Body, end: len(u.Body)}, &ua.RequestHeader{}
	if d.whole(h); d.err != nil {
		return nil
	}
	return h
}

// ReadService reads the body of a message into the type that it says it is of.
func ReadService(b []byte) (any, error) { return readService(b, nil) }

// ReadValues is ReadService, and says where in the body the values stand that have a status and
// times, in their order.
func ReadValues(b []byte) (v any, values [][2]int, err error) {
	v, err = readService(b, &trace{values: &values, silent: true})
	return v, values, err
}

func readService(b []byte, t *trace) (any, error) {
	if len(b) > MostOctets {
		return nil, fmt.Errorf("a message of %d octets is larger than any", len(b))
	}
	d := &decoder{b: b, end: len(b), trace: t}
	id := d.expanded()
	if d.err != nil {
		return nil, d.err
	}
	if id.NodeID.Namespace() != 0 {
		return nil, errors.New("a message is of no kind of OPC UA itself")
	}
	of, known := services[id.NodeID.IntID()]
	if !known {
		return nil, &Unknown{id.NodeID.IntID(), d.b}
	}
	v := reflect.New(of).Interface()
	d.whole(v)
	if d.err == nil && len(d.b) > 0 {
		d.fail("%d octets are left behind the message", len(d.b))
	}
	if d.err != nil {
		return nil, fmt.Errorf("a %s cannot be read: %w", of.Name(), d.err)
	}
	return v, nil
}

// Places says where in the chunks of a message, as they are without signature and cipher, octets
// of its body stand. What does not stand in one chunk is nowhere.
func Places(chunks []byte, body [][2]int) [][2]int {
	placed := make([][2]int, len(body))
	at, passed, i := 0, 0, 0
	for at < len(chunks) {
		n, err := Length(chunks[at:])
		if err != nil || at+n > len(chunks) || n < plainHead {
			break
		}
		for ; i < len(body) && body[i][0] < passed+n-plainHead; i++ {
			if body[i][1] <= passed+n-plainHead {
				placed[i] = [2]int{at + plainHead + body[i][0] - passed, at + plainHead + body[i][1] - passed}
			}
		}
		at, passed = at+n, passed+n-plainHead
	}
	return placed
}

// WriteService is the body of a message.
func WriteService(v any) (b []byte, err error) {
	defer func() { // the library does not say what it cannot encode
		if p := recover(); p != nil {
			err = fmt.Errorf("a %T cannot be written: %v", v, p)
		}
	}()
	id := ua.ServiceTypeID(v)
	if id == 0 {
		return nil, fmt.Errorf("a %T is no message", v)
	}
	head, err := ua.Encode(ua.NewFourByteExpandedNodeID(0, id))
	if err != nil {
		return nil, err
	}
	body, err := ua.Encode(v)
	return append(head, body...), err
}

// The beginning of a connection (OPC 10000-6, clause 7.1.2): the kinds of its messages, and what
// both ends say of themselves.
const (
	hello       = "HEL"
	acknowledge = "ACK"
	failure     = "ERR"
)

// Limits are what one end takes: chunks of so many octets, messages of so many and of so many
// chunks, 0 for no bound.
type Limits struct{ Receive, Send, Message, Chunks uint32 }

// OwnLimits are those of this end.
var OwnLimits = Limits{Receive: 65535, Send: 65535, Message: MostOctets}

// Hello begins a connection to an endpoint.
func Hello(endpoint string) []byte {
	b := appendLimits(binary.LittleEndian.AppendUint32(nil, 0), OwnLimits)
	b = binary.LittleEndian.AppendUint32(b, uint32(len(endpoint)))
	return framed(hello, append(b, endpoint...))
}

// Acknowledge answers it.
func Acknowledge() []byte { return framed(acknowledge, appendLimits(make([]byte, 4), OwnLimits)) }

// Failure ends a connection with a status and a reason.
func Failure(code ua.StatusCode, reason string) []byte {
	b := binary.LittleEndian.AppendUint32(nil, uint32(code))
	b = binary.LittleEndian.AppendUint32(b, uint32(len(reason)))
	return framed(failure, append(b, reason...))
}

func appendLimits(b []byte, l Limits) []byte {
	for _, n := range []uint32{l.Receive, l.Send, l.Message, l.Chunks} {
		b = binary.LittleEndian.AppendUint32(b, n)
	}
	return b
}

func framed(kind string, body []byte) []byte {
	b := append([]byte(kind), 'F')
	return append(binary.LittleEndian.AppendUint32(b, uint32(8+len(body))), body...)
}

// ReadChunk reads a message of the beginning, or a chunk.
func ReadChunk(from *bufio.Reader) ([]byte, error) {
	head, err := from.Peek(8)
	if err != nil {
		return nil, err
	}
	n, err := Length(head)
	if err != nil {
		return nil, err
	}
	b := make([]byte, n)
	_, err = io.ReadFull(from, b)
	return b, err
}

// Length is how long a message or chunk is, by its first eight octets.
func Length(head []byte) (int, error) {
	if len(head) < 8 {
		return 0, errors.New("it is cut short")
	}
	n := binary.LittleEndian.Uint32(head[4:])
	if n < 8 || n > 1<<20 {
		return 0, fmt.Errorf("it says that it has %d octets: it is no OPC UA", n)
	}
	switch string(head[:3]) {
	case hello, acknowledge, failure, OpenChannel, AnyMessage, CloseChannel:
		return int(n), nil
	}
	return 0, fmt.Errorf("it begins with %q: it is no OPC UA", head[:3])
}

// Failed is a connection that the other end has ended with a reason.
type Failed struct {
	Code   ua.StatusCode
	Reason string
}

func (f *Failed) Error() string { return f.Reason }

func statusAt(b []byte) ua.StatusCode { return ua.StatusCode(binary.LittleEndian.Uint32(b)) }

// ReadFailure reads what a connection is ended with; ok is false where it is something else.
func ReadFailure(b []byte) (f *Failed, ok bool) {
	d := &decoder{b: b}
	if kind := string(d.take(4)); kind != failure+"F" {
		return nil, false
	}
	d.u32()
	f = &Failed{Code: ua.StatusCode(d.u32()), Reason: d.text()}
	return f, true
}

// ReadAcknowledge reads the answer to Hello.
func ReadAcknowledge(b []byte) (l Limits, err error) {
	if f, failed := ReadFailure(b); failed {
		return l, f
	}
	d := &decoder{b: b}
	kind := string(d.take(4))
	d.u32()
	d.u32()
	l = Limits{d.u32(), d.u32(), d.u32(), d.u32()}
	if d.err != nil || kind != acknowledge+"F" || l.Receive < 8192 {
		return l, errors.New("the other end does not begin as OPC UA does")
	}
	return l, nil
}

// ReadHello reads the beginning of a connection: what the other end takes, and which endpoint it
// wants.
func ReadHello(b []byte) (l Limits, endpoint string, err error) {
	d := &decoder{b: b}
	kind := string(d.take(4))
	d.u32()
	d.u32()
	l = Limits{d.u32(), d.u32(), d.u32(), d.u32()}
	endpoint = d.text()
	if d.err != nil || kind != hello+"F" || l.Receive < 8192 || len(endpoint) > 4096 {
		return l, "", errors.New("the other end does not begin as OPC UA does")
	}
	return l, endpoint, nil
}
