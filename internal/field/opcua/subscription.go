package opcua

import (
	"context"
	"fmt"
	"maps"
	"strings"
	"time"

	"github.com/gopcua/opcua/ua"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/opcua"
	"ferry/internal/core/protocol"
	"ferry/internal/field"
	wire "ferry/internal/wire/opcua"
)

// subscription is what a server tells of nodes by itself.
type subscription struct {
	of       *conn
	id       uint32
	every    time.Duration // between two messages, as the server revised it
	alive    uint32        // how many of these may pass without one
	followed []followed    // by client handle

	acks []*ua.SubscriptionAcknowledgement
	last uint32 // the number of the message before, 0 for none

	looking  looking
	fetched  chan answered    // messages that are asked for once more; nil for none
	fetching int              // how many
	asked    []exchange.Frame // the questions for them
}

// followed is a node that is watched.
type followed struct {
	id      string      // of the point
	of      family.Node // what of it
	node    *ua.ReadValueID
	every   time.Duration // how often the server looks
	band    float64       // by how much it has to move until it is told
	granted string        // how it is told, where that is not as asked
	told    *ua.DataValue // what it told last; nil for nothing yet
	refused bool
	number  uint32 // of the message that told it
}

// lifetimes is how many keep-alives may be missed before the server gives a subscription up.
const lifetimes = 10

// longest is how far apart messages are at most, whatever a server says.
const longest = 24 * time.Hour

// subscribe makes a subscription.
func (c *conn) subscribe(ctx context.Context) (*subscription, error) {
	alive := uint32(family.TCP.Int(c.settings, family.KeyAliveEvery))
	answer, err := send[*ua.CreateSubscriptionResponse](ctx, c.session, &ua.CreateSubscriptionRequest{
		RequestedPublishingInterval: float64(family.TCP.Int(c.settings, family.KeyPublish)),
		RequestedLifetimeCount:      lifetimes * alive,
		RequestedMaxKeepAliveCount:  alive, PublishingEnabled: true})
	if err != nil {
		return nil, err
	}
	s := &subscription{of: c, id: answer.SubscriptionID, alive: max(1, min(answer.RevisedMaxKeepAliveCount, 1_000_000)),
		every: time.Millisecond}
	if ms := answer.RevisedPublishingInterval; ms > 1 { // else as fast as can be, or no number
		s.every = time.Duration(min(ms, float64(longest.Milliseconds())) * float64(time.Millisecond))
	}
	return s, nil
}

// monitor has the server watch nodes. Those that it does not are refused, each for itself.
func (s *subscription) monitor(ctx context.Context, wanted []protocol.Wanted) (refused []field.Refusal, err error) {
	c := s.of
	var items []*ua.MonitoredItemCreateRequest
	for _, w := range wanted {
		n, ok := family.NodeOf(w.Address)
		if !ok {
			refused = append(refused, field.Refusal{ID: w.ID, Sentence: "it is no node"})
			continue
		}
		id, why := c.nodeID(n)
		if why != "" {
			refused = append(refused, field.Refusal{ID: w.ID, Code: family.BadNodeIDUnknown, Sentence: why})
			continue
		}
		sampling := float64(w.PaceMs)
		if w.PaceMs == 0 {
			sampling = -1 // that of the subscription
		}
		var filter *ua.ExtensionObject
		if w.Band > 0 {
			filter = ua.NewExtensionObject(&ua.DataChangeFilter{Trigger: ua.DataChangeTriggerStatusValue,
				DeadbandType: uint32(ua.DeadbandTypeAbsolute), DeadbandValue: w.Band})
		}
		items = append(items, &ua.MonitoredItemCreateRequest{MonitoringMode: ua.MonitoringModeReporting,
			ItemToMonitor: &ua.ReadValueID{NodeID: id, AttributeID: ua.AttributeIDValue, DataEncoding: &ua.QualifiedName{}},
			RequestedParameters: &ua.MonitoringParameters{ClientHandle: uint32(len(s.followed)), SamplingInterval: sampling,
				QueueSize: uint32(family.TCP.Int(c.settings, family.KeyQueue)), DiscardOldest: true, Filter: filter}})
		s.followed = append(s.followed, followed{id: w.ID, of: n, node: items[len(items)-1].ItemToMonitor,
			band: w.Band})
	}
	if err := s.types(ctx); err != nil {
		return refused, err
	}
	more, err := s.create(ctx, items)
	return append(refused, more...), err
}

// types learns the types of those nodes of which a part of a structure is wanted.
func (s *subscription) types(ctx context.Context) error {
	var nodes []*ua.NodeID
	seen := map[string]bool{}
	for i := range s.followed {
		if f := &s.followed[i]; f.of.Field != "" && !seen[f.node.NodeID.String()] {
			seen[f.node.NodeID.String()] = true
			nodes = append(nodes, f.node.NodeID)
		}
	}
	return s.of.learnTypes(ctx, nodes)
}

// create asks for nodes to be watched. One whose deadband is refused is asked for without.
func (s *subscription) create(ctx context.Context, items []*ua.MonitoredItemCreateRequest) (refused []field.Refusal,
	err error) {
	c := s.of
	var again []*ua.MonitoredItemCreateRequest
	atOnce := c.limits.monitors
	for from := 0; from < len(items); from += atOnce {
		some := items[from:min(len(items), from+atOnce)]
		answer, err := send[*ua.CreateMonitoredItemsResponse](ctx, c.session,
			&ua.CreateMonitoredItemsRequest{SubscriptionID: s.id,
				TimestampsToReturn: ua.TimestampsToReturnBoth, ItemsToCreate: some})
		if err != nil {
			return refused, err
		}
		for i, item := range some {
			result := &ua.MonitoredItemCreateResult{StatusCode: ua.StatusBadUnexpectedError}
			if i < len(answer.Results) && answer.Results[i] != nil {
				result = answer.Results[i]
			}
			f, p := &s.followed[item.RequestedParameters.ClientHandle], item.RequestedParameters
			switch code := result.StatusCode; {
			case p.Filter != nil && (code == ua.StatusBadFilterNotAllowed ||
				code == ua.StatusBadMonitoredItemFilterUnsupported || code == ua.StatusBadMonitoredItemFilterInvalid ||
				code == ua.StatusBadDeadbandFilterInvalid):
				f.granted, f.band, p.Filter = "; the server takes no deadband for it: every change is told", 0, nil
				again = append(again, item)
			case uint32(code)>>30 == 2:
				f.refused = true
				refused = append(refused, field.Refusal{ID: f.id, Code: int(uint32(code)),
					Sentence: "the server does not report it: " + family.Words(uint32(code))})
			default:
				f.revised(p, result)
			}
		}
	}
	if len(again) > 0 {
		more, err := s.create(ctx, again)
		return append(refused, more...), err
	}
	return refused, nil
}

// revised takes in how a node is watched.
func (f *followed) revised(asked *ua.MonitoringParameters, is *ua.MonitoredItemCreateResult) {
	if ms := is.RevisedSamplingInterval; ms > 0 {
		f.every = time.Duration(min(ms, float64(longest.Milliseconds())) * float64(time.Millisecond))
		if asked.SamplingInterval > 0 && ms > asked.SamplingInterval*1.01+1 {
			f.granted += fmt.Sprintf("; the server looks at it every %g ms, asked %g", ms, asked.SamplingInterval)
		}
	}
	if n := is.RevisedQueueSize; n > 0 && n < asked.QueueSize {
		f.granted += fmt.Sprintf("; it keeps %d values of it, asked %d", n, asked.QueueSize)
	}
}

// Revised is how the server reports, where that is not how it was asked to.
func (c *conn) Revised() (settings protocol.Settings, said string, points map[string]string) {
	c.mu.Lock()
	made := c.subscription
	c.mu.Unlock()
	settings = protocol.Settings{}
	maps.Copy(settings, c.settings)
	if made == nil {
		return settings, "", nil
	}
	slower := ""
	for _, each := range []struct {
		key string
		is  int
	}{{family.KeyPublish, int(made.every.Milliseconds())}, {family.KeyAliveEvery, int(made.alive)}} {
		if asked := family.TCP.Int(settings, each.key); asked != each.is {
			setting, _ := family.TCP.Setting(each.key)
			said += fmt.Sprintf("; %s %d %s, asked %d", strings.ToLower(setting.Title), each.is, setting.Unit, asked)
			settings[each.key] = protocol.OfInt(each.is)
			if each.key == family.KeyPublish && each.is > asked {
				slower = fmt.Sprintf("; the server tells of changes every %d ms, asked %d", each.is, asked)
			}
		}
	}
	points = map[string]string{}
	for i := range made.followed {
		if f := &made.followed[i]; f.granted != "" || slower != "" {
			points[f.id] = strings.TrimPrefix(f.granted+slower, "; ")
		}
	}
	return settings, said, points
}

// took takes in a message of the server.
func (s *subscription) took(answer *ua.PublishResponse, at time.Time, a *answered) {
	m := answer.NotificationMessage
	report := field.Report{At: at, Operation: "sign of life", Octets: a.octets}
	if s.last != 0 && m.SequenceNumber > s.last+1 {
		s.fetch(s.last+1, m.SequenceNumber-1)
		s.last = m.SequenceNumber - 1
	}
	if m.SequenceNumber < s.last { // it counts anew: none of its messages is older than another
		for i := range s.followed {
			s.followed[i].number = 0
		}
	}
	if len(m.NotificationData) > 0 { // a keep-alive has the number of the next one, and is not confirmed
		s.last = m.SequenceNumber
		s.acks = append(s.acks, &ua.SubscriptionAcknowledgement{SubscriptionID: s.id, SequenceNumber: m.SequenceNumber})
	}
	if !s.takes(m, a.values, &report) {
		return
	}
	s.of.hand(report)
	if len(m.NotificationData) == 0 {
		s.look(at)
	}
}

// takes puts what a message tells into a report, but what a later one has told already. It reports
// false where the subscription has ended with it.
func (s *subscription) takes(m *ua.NotificationMessage, values [][2]int, report *field.Report) bool {
	for _, data := range m.NotificationData {
		if data == nil {
			continue
		}
		switch n := data.Value.(type) {
		case *ua.DataChangeNotification:
			report.Operation = fmt.Sprintf("notification of %d values", len(n.MonitoredItems))
			for _, item := range n.MonitoredItems {
				var place [2]int
				if item != nil && item.Value != nil && item.Value.Has(ua.DataValueValue) && len(values) > 0 {
					place, values = values[0], values[1:]
				}
				if item == nil || int(item.ClientHandle) >= len(s.followed) {
					continue
				}
				f := &s.followed[item.ClientHandle]
				if f.number > m.SequenceNumber {
					continue
				}
				f.told, f.number = item.Value, m.SequenceNumber
				delete(s.looking.apart, int(item.ClientHandle))
				one := s.sampled(f, item.Value)
				one.From, one.To = place[0], place[1]
				report.Samples = append(report.Samples, one)
			}
		case *ua.StatusChangeNotification:
			code := uint32(n.Status)
			s.of.finish(field.Reply{Outcome: exchange.Declined, Code: int(code),
				Sentence: "the server ended the subscription: " + family.Words(code)})
			return false
		}
	}
	return true
}

// mostFetched is how many messages that are missing are asked for.
const mostFetched = 20

// fetch asks for messages that did not come, once more. What is not kept any more is lost.
func (s *subscription) fetch(from, to uint32) {
	if s.fetched == nil {
		s.fetched = make(chan answered, mostFetched)
	}
	for n := from; n <= to && n-from < mostFetched && s.fetching < mostFetched; n++ {
		request := &ua.RepublishRequest{SubscriptionID: s.id, RetransmitSequenceNumber: n}
		request.SetHeader(head(s.of.token, s.of.within))
		id, err := s.of.post(wire.AnyMessage, request, s.fetched, kept)
		if err != nil {
			return // the connection has ended, which is told otherwise
		}
		s.fetching++
		s.asked = append(s.asked, exchange.Frame{Out: true, Octets: s.of.take(id)})
	}
}

// came takes in a message that was asked for once more.
func (s *subscription) came(a answered) {
	s.fetching--
	at := time.Now()
	report := field.Report{At: at, Operation: "a message that had not come", Octets: a.octets}
	if len(s.asked) > 0 {
		report.Frames = []exchange.Frame{s.asked[0], {Octets: a.octets}}
		s.asked = s.asked[1:]
	}
	answer, ok := a.response.(*ua.RepublishResponse)
	if !ok || a.err != nil || answer.NotificationMessage == nil {
		code, _ := status(a.err)
		report.Wrong = "a message that did not come is lost: " + family.Words(code)
		s.of.hand(report)
		return
	}
	s.acks = append(s.acks, &ua.SubscriptionAcknowledgement{SubscriptionID: s.id,
		SequenceNumber: answer.NotificationMessage.SequenceNumber})
	if s.takes(answer.NotificationMessage, a.values, &report) {
		s.of.hand(report)
	}
}

// sampled is a value that the server told.
func (s *subscription) sampled(f *followed, v *ua.DataValue) field.Sampled {
	told := field.Sampled{ID: f.id}
	if v == nil {
		told.Quality, told.Reason = family.QualityOf(family.BadUnexpected)
		return told
	}
	if told.Quality, told.Reason = family.QualityOf(uint32(v.Status)); told.Reason != "" {
		told.Code = int(uint32(v.Status))
	} else {
		told.Reason = family.Remark(uint32(v.Status))
	}
	if v.Has(ua.DataValueSourceTimestamp) {
		told.Time = v.SourceTimestamp
	}
	if v.Has(ua.DataValueServerTimestamp) {
		told.Told = v.ServerTimestamp
	}
	held, why := s.of.partOf(v.Value, &f.of)
	if why != "" && told.Code == 0 {
		told.Quality, told.Reason = family.QualityOf(family.BadUnexpected)
		told.Reason, told.Code = why, 0
	}
	told.Value = held
	return told
}
