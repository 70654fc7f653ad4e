package recording

import (
	"fmt"
	"math"
	"time"

	"github.com/gopcua/opcua/ua"

	"ferry/internal/core/capture"
	"ferry/internal/core/rehearsal"
	"ferry/internal/wire/opcua"
)

// hall is a session of OPC UA at the supervisor of the filtration hall, with a subscription to
// three nodes.
type hall struct {
	*actor
	conn   *rehearsal.Conn
	ends   [2]*opcua.Channel
	number uint32
	asks   []uint32 // questions for news that wait
	told   uint32   // messages of the subscription
}

func init() { others = append(others, halls...) }

// halls are scenes of OPC UA.
var halls = []scene{
	{"a subscription that brings values and signs of life", "", func(a *actor) {
		h := a.hall(500, 3)
		for i := range 20 {
			if i%(3+a.way) == 0 {
				h.alive()
			} else {
				h.tells(float32(i), 0)
			}
			h.Wait(time.Duration(500+400*a.way) * time.Millisecond)
		}
		h.conn.Close(capture.Asker)
	}},
	{"a subscription whose missing message is fetched", "", func(a *actor) {
		h := a.hall(500, 3)
		for i := range 6 + a.way {
			h.tells(float32(i), 0)
		}
		h.told++
		h.tells(9, 0)
		h.talk(&ua.RepublishRequest{SubscriptionID: 7, RetransmitSequenceNumber: h.told - 1},
			&ua.RepublishResponse{NotificationMessage: h.message(h.told-1, 8, 0)})
		h.tells(10, 0)
	}},
	{"a client that looks at all attributes of nodes", "", func(a *actor) {
		h := a.calls()
		for i := range 4 + a.way {
			asked, answered := &ua.ReadRequest{}, &ua.ReadResponse{}
			for attribute := ua.AttributeIDNodeID; attribute <= ua.AttributeIDUserExecutable; attribute++ {
				n := node(i)
				n.AttributeID = attribute
				value := valued(1, 0)
				if attribute != ua.AttributeIDValue && attribute > ua.AttributeIDDescription {
					value = &ua.DataValue{EncodingMask: ua.DataValueStatusCode, Status: ua.StatusBadAttributeIDInvalid}
				}
				asked.NodesToRead, answered.Results = append(asked.NodesToRead, n), append(answered.Results, value)
			}
			h.talk(asked, answered)
			h.Wait(time.Second)
		}
	}},
	{"a server recorded from the middle on", "", func(a *actor) {
		h := a.calls()
		a.Packets = nil
		for i := range 12 {
			h.reads(float32(i), 0)
			h.Wait(time.Duration(200+100*a.way) * time.Millisecond)
		}
	}},
	{"a node that has no value", "refused", func(a *actor) {
		h := a.calls()
		for range 3 + a.way {
			h.reads(1, ua.StatusBadAttributeIDInvalid)
			h.Wait(time.Second)
		}
	}},
	{"messages of a subscription that are missing", "sequence-gap", func(a *actor) {
		h := a.hall(500, 3)
		for i := range 12 {
			if i > 0 && i%(4+a.way) == 0 {
				h.told++
			}
			if a.way == 2 && i%2 == 1 {
				h.alive() // which says what number comes next
			} else {
				h.tells(float32(i), 0)
			}
			h.Wait(time.Second)
		}
	}},
	{"a subscription that falls silent", "silent-subscription", func(a *actor) {
		h := a.hall(500, uint32(3+a.way))
		for i := range 3 {
			h.tells(float32(i), 0)
			h.Wait(time.Second)
		}
		for range 10 + 4*a.way { // though it answers other questions
			h.reads(2, 0)
			h.Wait(time.Second)
		}
	}},
	{"a subscription that tells nothing new, though there is", "silent-subscription", func(a *actor) {
		h := a.hall(500, 3)
		h.tells(5, 0)
		for i := range 8 {
			h.reads([]float32{6 + float32(i), 6, float32(math.NaN())}[a.way], 0)
			h.Wait(2 * time.Second)
			h.alive()
		}
	}},
	{"a subscription that tells nothing new, as there is nothing", "", func(a *actor) {
		h := a.hall(500, 3)
		value := []float32{6, 0, float32(math.NaN())}[a.way]
		h.tells(value, 0)
		for range 8 {
			h.reads(value, 0)
			h.Wait(2 * time.Second)
			h.alive()
		}
	}},
	{"less is granted than was asked for", "granted-less", func(a *actor) {
		h := a.hall([]float64{5000, 1000, 60_000}[a.way], 3)
		h.tells(5, 0)
		h.alive()
	}},
	{"a server that does not call its values good", "source-doubtful", func(a *actor) {
		h := a.hall(500, 3)
		for i := range 5 {
			h.tells(float32(i), []ua.StatusCode{0x40900000, ua.StatusBadCommunicationError, ua.StatusBadSensorFailure}[a.way])
			h.Wait(time.Second)
		}
	}},
	{"more changes than a server keeps for a message", "queue-overrun", func(a *actor) {
		h := a.hall(500, 3)
		for i := range 5 {
			h.tells(float32(i), []ua.StatusCode{0x480, 0x00300480, 0x00960480}[a.way])
			h.Wait(time.Second)
		}
	}},
	{"a server that has no value yet", "", func(a *actor) {
		h := a.hall(500, 3)
		h.tells(0, ua.StatusBadWaitingForInitialData)
		for i := range 5 {
			h.tells(float32(i), 0)
		}
	}},
	{"a server that numbers its namespaces otherwise", "names-renumbered", func(a *actor) {
		for i := range 3 {
			h := a.calls()
			names := []string{"http://opcfoundation.org/UA/", "urn:ferry:stand-in", "urn:skerry:hall"}
			if i > a.way%2 {
				names = append(names[:1:1], []string{"urn:skerry:added", names[1]}[a.way%2], names[2])
				names = append(names, fmt.Sprint("urn:skerry:", a.way))
			}
			h.names(names)
			h.conn.Close(capture.Asker)
			h.Wait(10 * time.Second)
		}
	}},
	{"a server that was started again and is as before", "", func(a *actor) {
		for range 2 + a.way {
			h := a.calls()
			h.names([]string{"http://opcfoundation.org/UA/", "urn:skerry:hall"})
			h.conn.Close(capture.Asker)
			h.Wait(10 * time.Second)
		}
	}},
	{"a server that has not got the nodes", "refused", func(a *actor) {
		h := a.calls()
		for range 3 {
			code := []ua.StatusCode{ua.StatusBadNodeIDUnknown, ua.StatusBadUserAccessDenied, ua.StatusBadNotReadable}[a.way]
			h.reads(0, code)
			h.Wait(time.Second)
		}
	}},
	{"a server that takes no more sessions", "connection-limit", func(a *actor) {
		for range 3 + a.way {
			h := a.calls()
			h.talk(&ua.CreateSessionRequest{ClientDescription: described()},
				&ua.ServiceFault{ResponseHeader: &ua.ResponseHeader{ServiceResult: ua.StatusBadTooManySessions}})
			h.conn.Close(capture.Asker)
			h.Wait(5 * time.Second)
		}
	}},
	{"a server that does not know the user", "refused", func(a *actor) {
		for range 3 {
			h := a.calls()
			h.talk(&ua.ActivateSessionRequest{ClientSignature: &ua.SignatureData{}, UserTokenSignature: &ua.SignatureData{}},
				&ua.ServiceFault{ResponseHeader: &ua.ResponseHeader{ServiceResult: []ua.StatusCode{
					ua.StatusBadIdentityTokenRejected, ua.StatusBadUserAccessDenied, ua.StatusBadIdentityTokenInvalid}[a.way]}})
			h.conn.Close(capture.Asker)
			h.Wait(5 * time.Second)
		}
	}},
	{"a server that ends the connection with a reason", "refused", func(a *actor) {
		for range 3 {
			c := a.Dial(controller, supervisor)
			c.Talk(opcua.Hello("opc.tcp://"+supervisor), opcua.Failure([]ua.StatusCode{ua.StatusBadTCPEndpointURLInvalid,
				ua.StatusBadTCPServerTooBusy, ua.StatusBadTCPMessageTypeInvalid}[a.way], "no"), a.think())
			c.Close(capture.Answerer)
			a.Wait(5 * time.Second)
		}
	}},
	{"a server that leaves questions unanswered", "no-answer", func(a *actor) {
		h := a.calls()
		for i := range 10 {
			h.say(capture.Asker, h.next(), &ua.ReadRequest{NodesToRead: []*ua.ReadValueID{node(i % (1 + a.way))}})
			h.Wait(2 * time.Second)
			h.reads(2, 0)
		}
	}},
}

const supervisor = "192.0.2.90:4840"

func described() *ua.ApplicationDescription {
	return &ua.ApplicationDescription{ApplicationName: ua.NewLocalizedText("Ferry")}
}

func node(i int) *ua.ReadValueID {
	return &ua.ReadValueID{NodeID: ua.NewStringNodeID(2, fmt.Sprint("Tank.", i)), AttributeID: ua.AttributeIDValue,
		DataEncoding: &ua.QualifiedName{}}
}

// calls opens a connection and its channel.
func (a *actor) calls() *hall {
	h := &hall{actor: a, conn: a.Dial(controller, supervisor)}
	for i := range h.ends {
		h.ends[i] = &opcua.Channel{Takes: 8192}
		must(h.ends[i].Secure(opcua.Security{Policy: ua.SecurityPolicyURINone, Mode: ua.MessageSecurityModeNone}))
		must(h.ends[i].Renew(1, nil, nil))
	}
	h.conn.Talk(opcua.Hello("opc.tcp://"+supervisor), opcua.Acknowledge(), a.think())
	h.kind(opcua.OpenChannel, &ua.OpenSecureChannelRequest{}, &ua.OpenSecureChannelResponse{
		SecurityToken: &ua.ChannelSecurityToken{ChannelID: 1, TokenID: 1}})
	return h
}

func must(err error) {
	if err != nil {
		panic(err)
	}
}

func (h *hall) next() uint32 {
	h.number++
	return h.number
}

// chunks are those of a message of one side.
func (h *hall) chunks(side capture.Side, kind string, request uint32, v any) (b []byte) {
	switch v := v.(type) {
	case ua.Request:
		v.SetHeader(&ua.RequestHeader{AuthenticationToken: ua.NewTwoByteNodeID(0)})
	case ua.Response:
		if v.Header() == nil {
			v.SetHeader(&ua.ResponseHeader{})
		}
		v.Header().ServiceDiagnostics, v.Header().AdditionalHeader = &ua.DiagnosticInfo{}, ua.NewExtensionObject(nil)
	}
	body, err := opcua.WriteService(v)
	must(err)
	list, err := h.ends[side].Encode(kind, request, body)
	must(err)
	for _, chunk := range list {
		b = append(b, chunk...)
	}
	return b
}

func (h *hall) say(side capture.Side, request uint32, v any) {
	h.conn.Say(side, h.chunks(side, opcua.AnyMessage, request, v))
}

func (h *hall) kind(kind string, asked, answered any) {
	id := h.next()
	h.conn.Talk(h.chunks(capture.Asker, kind, id, asked), h.chunks(capture.Answerer, kind, id, answered), h.think())
}

func (h *hall) talk(asked, answered any) { h.kind(opcua.AnyMessage, asked, answered) }

// hall opens a session with a subscription that the server publishes so often, and says that it
// is there after so many times.
func (a *actor) hall(every float64, alive uint32) *hall {
	h := a.calls()
	h.talk(&ua.CreateSubscriptionRequest{RequestedPublishingInterval: 500, RequestedMaxKeepAliveCount: alive},
		&ua.CreateSubscriptionResponse{SubscriptionID: 7, RevisedPublishingInterval: every, RevisedMaxKeepAliveCount: alive})
	asked, answered := &ua.CreateMonitoredItemsRequest{SubscriptionID: 7}, &ua.CreateMonitoredItemsResponse{}
	for i := range 3 {
		asked.ItemsToCreate = append(asked.ItemsToCreate, &ua.MonitoredItemCreateRequest{ItemToMonitor: node(i),
			MonitoringMode:      ua.MonitoringModeReporting,
			RequestedParameters: &ua.MonitoringParameters{ClientHandle: uint32(i), SamplingInterval: 500}})
		answered.Results = append(answered.Results, &ua.MonitoredItemCreateResult{RevisedSamplingInterval: 500,
			FilterResult: ua.NewExtensionObject(nil)})
	}
	h.talk(asked, answered)
	for range 3 {
		h.wants()
	}
	return h
}

// wants asks for news.
func (h *hall) wants() {
	id := h.next()
	h.asks = append(h.asks, id)
	h.say(capture.Asker, id, &ua.PublishRequest{})
}

func (h *hall) message(number uint32, value float32, status ua.StatusCode) *ua.NotificationMessage {
	change := &ua.DataChangeNotification{MonitoredItems: []*ua.MonitoredItemNotification{{ClientHandle: 1,
		Value: valued(value, status)}}}
	return &ua.NotificationMessage{SequenceNumber: number, NotificationData: []*ua.ExtensionObject{
		ua.NewExtensionObject(change)}}
}

func valued(value float32, status ua.StatusCode) *ua.DataValue {
	return &ua.DataValue{EncodingMask: ua.DataValueValue | ua.DataValueStatusCode, Status: status,
		Value: ua.MustVariant(value)}
}

func (h *hall) publish(m *ua.NotificationMessage) {
	id := h.asks[0]
	h.asks = h.asks[1:]
	h.say(capture.Answerer, id, &ua.PublishResponse{SubscriptionID: 7, NotificationMessage: m})
	h.Wait(h.think())
	h.wants()
	h.Wait(100 * time.Millisecond)
}

// tells has the server tell a value, alive that it is there.
func (h *hall) tells(value float32, status ua.StatusCode) {
	h.told++
	h.publish(h.message(h.told, value, status))
}

func (h *hall) alive() { h.publish(&ua.NotificationMessage{SequenceNumber: h.told + 1}) }

// reads has a node read.
func (h *hall) reads(value float32, status ua.StatusCode) {
	h.talk(&ua.ReadRequest{NodesToRead: []*ua.ReadValueID{node(1)}}, &ua.ReadResponse{
		Results: []*ua.DataValue{valued(value, status)}})
}

// names has the namespaces read.
func (h *hall) names(names []string) {
	id := &ua.ReadValueID{NodeID: ua.NewNumericNodeID(0, 2255), AttributeID: ua.AttributeIDValue,
		DataEncoding: &ua.QualifiedName{}}
	h.talk(&ua.ReadRequest{NodesToRead: []*ua.ReadValueID{id}}, &ua.ReadResponse{
		Results: []*ua.DataValue{{EncodingMask: ua.DataValueValue, Value: ua.MustVariant(names)}}})
}
