package opcua

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/gopcua/opcua/ua"

	"ferry/internal/core/capture"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/opcua"
)

// asks are the questions for news that wait at the server, the oldest first.
type asks struct{ open []waitingAsk }

type waitingAsk struct {
	request uint32
	at      time.Time
	number  int64
}

func newAsks() asks { return asks{} }

// mostAsks bounds them.
const mostAsks = 256

func (a *asks) ask(request uint32, p capture.Piece) {
	if len(a.open) >= mostAsks {
		a.open = a.open[1:]
	}
	a.open = append(a.open, waitingAsk{request, p.At, p.Number})
}

// answered takes one out; asked is when it was asked.
func (a *asks) answered(request uint32) (asked capture.Piece, news bool) {
	i := slices.IndexFunc(a.open, func(w waitingAsk) bool { return w.request == request })
	if i < 0 {
		return asked, false
	}
	asked = capture.Piece{At: a.open[i].at, Number: a.open[i].number}
	a.open = slices.Delete(a.open, i, i+1)
	return asked, true
}

// told is what a server tells of subscriptions over one connection.
type told struct {
	heard func(*capture.Heard)
	subs  map[uint32]*subscribed
	last  int64 // the packet before
}

// subscribed is one subscription.
type subscribed struct {
	every   time.Duration // between two messages; 0 where the recording does not tell
	alive   int           // after so many without news the server says that it is there
	since   time.Time     // when anything was told last
	next    uint32        // the number of the next message, 0 where that is not known
	missing map[uint32]missed
	nodes   map[uint32]*heldNode // by what the client calls them
	mute    bool                 // its silence was told of
}

// missed is a message that did not come.
type missed struct {
	at     time.Time
	packet int64
}

// heldNode is what is known of a node that is watched.
type heldNode struct {
	name  string
	every time.Duration // how often the server looks
	said  *ua.DataValue // as it was told last; nil for not yet
	other time.Time     // since when it reads otherwise than it was told; zero for not
	first bool          // it was told of
}

// Bounds of what is followed.
const (
	mostSubscribed = 256
	mostHeldNodes  = 20_000
	mostMissed     = 1000
)

func newTold(heard func(*capture.Heard)) *told {
	return &told{heard: heard, subs: map[uint32]*subscribed{}}
}

// name is what a subscription is called.
func subscriptionName(id uint32) string { return fmt.Sprintf("subscription %d", id) }

func milliseconds(ms float64) time.Duration {
	return time.Duration(max(0, min(ms, 1e10)) * float64(time.Millisecond))
}

// answered takes in an answer to what was asked.
func (t *told) answered(p capture.Piece, h *capture.Heard, asked, v any) {
	t.last = p.Number
	if h.Outcome != exchange.Answered && h.Outcome != exchange.Declined {
		return
	}
	switch v := v.(type) {
	case *ua.CreateSubscriptionResponse:
		t.created(p, h, asked, v)
	case *ua.CreateMonitoredItemsResponse:
		t.monitored(h, asked, v)
	case *ua.DeleteSubscriptionsResponse:
		if request, ok := asked.(*ua.DeleteSubscriptionsRequest); ok {
			for _, id := range request.SubscriptionIDs {
				delete(t.subs, id)
			}
		}
	case *ua.RepublishResponse:
		if request, ok := asked.(*ua.RepublishRequest); ok && h.Outcome == exchange.Answered {
			if of := t.subs[request.SubscriptionID]; of != nil {
				delete(of.missing, request.RetransmitSequenceNumber)
			}
		}
	case *ua.ReadResponse:
		if request, ok := asked.(*ua.ReadRequest); ok && len(request.NodesToRead) == len(v.Results) {
			t.read(p, h, request, v)
		}
	}
}

// created takes in a new subscription.
func (t *told) created(p capture.Piece, h *capture.Heard, asked any, v *ua.CreateSubscriptionResponse) {
	request, ok := asked.(*ua.CreateSubscriptionRequest)
	if h.Outcome != exchange.Answered || len(t.subs) >= mostSubscribed {
		return
	}
	t.subs[v.SubscriptionID] = &subscribed{every: max(time.Millisecond, milliseconds(v.RevisedPublishingInterval)),
		alive: int(max(1, min(v.RevisedMaxKeepAliveCount, 1_000_000))), since: p.At, next: 1,
		missing: map[uint32]missed{}, nodes: map[uint32]*heldNode{}}
	if ok && less(request.RequestedPublishingInterval, v.RevisedPublishingInterval) {
		h.Remarks = append(h.Remarks, capture.Remark{Kind: capture.Granted, Name: subscriptionName(v.SubscriptionID),
			Text: fmt.Sprintf("it is published every %g ms, and %g ms were asked for", v.RevisedPublishingInterval,
				request.RequestedPublishingInterval)})
	}
}

// less reports whether a longer interval was granted than asked for. Who asks for none in
// particular, or for the shortest that there is, takes what comes.
func less(asked, granted float64) bool { return asked > 0 && granted > asked*1.01+1 }

// monitored takes in which nodes are watched.
func (t *told) monitored(h *capture.Heard, asked any, v *ua.CreateMonitoredItemsResponse) {
	request, ok := asked.(*ua.CreateMonitoredItemsRequest)
	if !ok || len(request.ItemsToCreate) != len(v.Results) {
		return
	}
	of := t.subs[request.SubscriptionID]
	slower, example := 0, ""
	for i, item := range request.ItemsToCreate {
		result := v.Results[i]
		if item == nil || result == nil || item.ItemToMonitor == nil || item.RequestedParameters == nil ||
			uint32(result.StatusCode)>>30 == 2 {
			continue
		}
		if less(item.RequestedParameters.SamplingInterval, result.RevisedSamplingInterval) {
			if slower++; example == "" {
				example = fmt.Sprintf("%s is looked at every %g ms, and %g ms were asked for", item.ItemToMonitor.NodeID,
					result.RevisedSamplingInterval, item.RequestedParameters.SamplingInterval)
			}
		}
		filtered := item.RequestedParameters.Filter != nil && item.RequestedParameters.Filter.Value != nil
		if of != nil && !filtered && item.MonitoringMode == ua.MonitoringModeReporting && len(of.nodes) < mostHeldNodes {
			of.nodes[item.RequestedParameters.ClientHandle] = &heldNode{name: nodeKey(item.ItemToMonitor),
				every: milliseconds(max(result.RevisedSamplingInterval, 0))}
		}
	}
	if slower > 0 {
		h.Remarks = append(h.Remarks, capture.Remark{Kind: capture.Granted, Name: subscriptionName(request.SubscriptionID),
			Text: fmt.Sprintf("%s; %d of %d nodes", example, slower, len(v.Results))})
	}
}

// nodeKey is which value of which node is meant.
func nodeKey(r *ua.ReadValueID) string {
	return fmt.Sprintf("%s %d %s", r.NodeID, r.AttributeID, r.IndexRange)
}

// namespaceArray is the node in which a server says how it numbers its namespaces.
const namespaceArray = 2255

// read takes in values that were read.
func (t *told) read(p capture.Piece, h *capture.Heard, request *ua.ReadRequest, v *ua.ReadResponse) {
	watched := map[string]*heldNode{}
	for _, of := range t.subs {
		for _, n := range of.nodes {
			watched[n.name] = n
		}
	}
	doubtful := &doubts{}
	for i, r := range request.NodesToRead {
		result := v.Results[i]
		if r == nil || r.NodeID == nil || result == nil || result.Value == nil || r.AttributeID != ua.AttributeIDValue {
			continue
		}
		if names, ok := result.Value.Value().([]string); ok && r.NodeID.Namespace() == 0 &&
			r.NodeID.IntID() == namespaceArray {
			h.Remarks = append(h.Remarks, capture.Remark{Kind: capture.Numbering, Name: "namespaces",
				Text: strings.Join(names, "\n")})
		}
		if code := uint32(result.Status); !family.Refuses(code) {
			doubtful.add(code, r.NodeID.String())
		}
		n := watched[nodeKey(r)]
		switch {
		case n == nil || family.Refuses(uint32(result.Status)) || !n.first && uint32(result.Status)>>30 != 0:
		case n.first && alike(result, n.said):
			n.other = time.Time{}
		case n.other.IsZero():
			n.other = p.At
		}
	}
	h.Remarks = append(h.Remarks, doubtful.remarks()...)
}

// alike reports whether two values are the same, their times apart.
func alike(a, b *ua.DataValue) bool {
	if a == nil || b == nil {
		return a == b
	}
	return a.Status>>16 == b.Status>>16 && Alike(a.Value, b.Value)
}

// news takes in a message of a subscription.
func (t *told) news(p capture.Piece, h *capture.Heard, v *ua.PublishResponse) {
	t.last = p.Number
	m := v.NotificationMessage
	if m == nil {
		return
	}
	of := t.subs[v.SubscriptionID]
	if of == nil {
		if len(t.subs) >= mostSubscribed {
			return
		}
		of = &subscribed{missing: map[uint32]missed{}, nodes: map[uint32]*heldNode{}}
		t.subs[v.SubscriptionID] = of
	}
	of.since, of.mute = p.At, false
	h.Report = &capture.Report{Way: capture.Brings, Name: subscriptionName(v.SubscriptionID)}
	of.number(m, p)
	if len(m.NotificationData) == 0 {
		t.still(p, h, of, v.SubscriptionID)
		return
	}
	doubtful, overrun, lost := &doubts{}, 0, ""
	for _, data := range m.NotificationData {
		if data == nil {
			continue
		}
		switch n := data.Value.(type) {
		case *ua.DataChangeNotification:
			for _, item := range n.MonitoredItems {
				if item == nil || item.Value == nil {
					continue
				}
				node, name := of.nodes[item.ClientHandle], fmt.Sprintf("the node that the client calls %d", item.ClientHandle)
				if node != nil {
					node.said, node.first, node.other = item.Value, true, time.Time{}
					name, _, _ = strings.Cut(node.name, " ")
				}
				doubtful.add(uint32(item.Value.Status), name)
				if uint32(item.Value.Status)&overflowed == overflowed {
					if overrun++; lost == "" {
						lost = name
					}
				}
			}
		case *ua.StatusChangeNotification:
			h.Outcome, h.Code = exchange.Declined, int(uint32(n.Status))
			delete(t.subs, v.SubscriptionID)
		}
	}
	h.Remarks = append(h.Remarks, doubtful.remarks()...)
	if overrun > 0 {
		h.Remarks = append(h.Remarks, capture.Remark{Kind: capture.Overrun, Name: subscriptionName(v.SubscriptionID),
			Text: fmt.Sprintf("values beside %d that were told are lost, first of %s", overrun, lost)})
	}
}

// overflowed are the bits of a status by which a value says that others beside it were lost (OPC
// 10000-4, clause 7.39.1).
const overflowed = 0x480

// number follows the numbers of messages (OPC 10000-4, clause 7.14.1): one that says only that
// the server is there has that of the next.
func (of *subscribed) number(m *ua.NotificationMessage, p capture.Piece) {
	for n := of.next; of.next != 0 && n < m.SequenceNumber && len(of.missing) < mostMissed; n++ {
		of.missing[n] = missed{p.At, p.Number}
	}
	if of.next = m.SequenceNumber; len(m.NotificationData) > 0 {
		if of.next++; of.next == 0 {
			of.next = 1
		}
	}
}

// still is told that a server has nothing new: what reads otherwise for long enough is new.
func (t *told) still(p capture.Piece, h *capture.Heard, of *subscribed, id uint32) {
	var names []string
	than := "reads otherwise than it told"
	for _, n := range of.nodes {
		if !n.other.IsZero() && p.At.Sub(n.other) > 2*(n.every+of.every)+time.Second {
			name, _, _ := strings.Cut(n.name, " ")
			if names = append(names, name); !n.first {
				than = "has a value that it never told"
			}
			n.other = time.Time{}
		}
	}
	if len(names) == 0 {
		return
	}
	slices.Sort(names)
	h.Remarks = append(h.Remarks, capture.Remark{Kind: capture.Withheld, Name: subscriptionName(id),
		Text: fmt.Sprintf("the server says that there is nothing new, and %s %s", listed(names), than)})
}

// listed are names, the first of them by name.
func listed(names []string) string {
	if len(names) == 1 {
		return names[0]
	}
	return fmt.Sprintf("%s and %d more", names[0], len(names)-1)
}

// silent looks for subscriptions of which nothing was heard for twice as long as may be, though
// the server was asked.
func (t *told) silent(at time.Time, a *asks) {
	if len(a.open) == 0 {
		return
	}
	for id, of := range t.subs {
		if of.every == 0 || of.mute {
			continue
		}
		since := of.since
		if a.open[0].at.After(since) {
			since = a.open[0].at
		}
		longest := of.every * time.Duration(of.alive)
		if quiet := at.Sub(since); quiet > 2*longest+2*time.Second {
			of.mute = true
			h := &capture.Heard{Station: -1, Answered: at, AnsweredIn: t.last, Stray: "nothing is told",
				Remarks: []capture.Remark{{Kind: capture.Withheld, Name: subscriptionName(id),
					Text: fmt.Sprintf("nothing for %.1f s, though %d questions for news wait; at the latest every %.1f s it is to "+
						"say that it is there", quiet.Seconds(), len(a.open), longest.Seconds())}}}
			t.heard(h)
		}
	}
}

// lost is told that octets are missing: nothing is concluded from what did not come.
func (t *told) lost() {
	for _, of := range t.subs {
		of.next, of.every = 0, 0
		clear(of.missing)
		clear(of.nodes)
	}
}

// finish tells of messages that never came.
func (t *told) finish() {
	for id, of := range t.subs {
		for number, m := range of.missing {
			t.heard(&capture.Heard{Station: -1, Answered: m.at, AnsweredIn: m.packet, Stray: "a message before it is missing",
				Remarks: []capture.Remark{{Kind: capture.Skipped, Name: subscriptionName(id),
					Text: fmt.Sprintf("message %d of %s did not come", number, subscriptionName(id))}}})
		}
	}
}

// doubts count values that a server does not call good, by their code.
type doubts struct {
	codes []uint32
	names map[uint32][]string
}

func (d *doubts) add(code uint32, name string) {
	if code>>30 == 0 || code&^0xFFFF == family.BadWaitingForData {
		return
	}
	if code &^= 0xFFFF; !slices.Contains(d.codes, code) {
		if d.codes = append(d.codes, code); d.names == nil {
			d.names = map[uint32][]string{}
		}
	}
	d.names[code] = append(d.names[code], name)
}

func (d *doubts) remarks() (list []capture.Remark) {
	for _, code := range d.codes {
		list = append(list, capture.Remark{Kind: capture.Uncertain, Name: family.Words(code), Text: listed(d.names[code])})
	}
	return list
}
