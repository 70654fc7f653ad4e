package opcua

import (
	"bytes"
	"context"
	"time"

	"github.com/gopcua/opcua/ua"
)

// subscription tells a session of what has changed.
type subscription struct {
	of    *session
	id    uint32
	every time.Duration
	// alive is after how many intervals without anything it says that it is there, lifetime after
	// how many without a question it ends.
	alive, lifetime uint32
	enabled         bool
	end             context.CancelFunc

	items   map[uint32]*item // all that follows is held by the lock of the session
	number  uint32           // of the last message with news
	quiet   uint32           // intervals since something was said
	unasked uint32           // intervals without a question
	kept    []*ua.NotificationMessage
}

// item is a node that is watched.
type item struct {
	id       uint32
	what     *ua.ReadValueID
	handle   uint32
	mode     ua.MonitoringMode
	every    time.Duration
	due      time.Time
	band     float64 // by how much a value has to move, absolutely
	queue    []*ua.DataValue
	most     int
	last     *ua.DataValue
	octets   []byte // of the last value
	overflow bool
}

// keptMessages is how many messages can be asked for again.
const keptMessages = 20

// each does something with those of a request that there are, and says of the others that they
// are missing.
func each[T any](ids []uint32, of map[uint32]*T, missing ua.StatusCode, do func(*T)) []ua.StatusCode {
	results := make([]ua.StatusCode, 0, len(ids))
	for _, id := range ids {
		one := of[id]
		if one == nil {
			results = append(results, missing)
			continue
		}
		do(one)
		results = append(results, ua.StatusOK)
	}
	return results
}

// subscribing answers what has to do with subscriptions.
func (s *session) subscribing(request ua.Request) (ua.Response, ua.StatusCode) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch r := request.(type) {
	case *ua.CreateSubscriptionRequest:
		return s.create(r)
	case *ua.ModifySubscriptionRequest:
		sub := s.subscriptions[r.SubscriptionID]
		if sub == nil {
			return nil, ua.StatusBadSubscriptionIDInvalid
		}
		sub.set(r.RequestedPublishingInterval, r.RequestedLifetimeCount, r.RequestedMaxKeepAliveCount)
		return &ua.ModifySubscriptionResponse{RevisedPublishingInterval: float64(sub.every) / 1e6,
			RevisedLifetimeCount: sub.lifetime, RevisedMaxKeepAliveCount: sub.alive}, ua.StatusOK
	case *ua.SetPublishingModeRequest:
		return &ua.SetPublishingModeResponse{Results: each(r.SubscriptionIDs, s.subscriptions,
			ua.StatusBadSubscriptionIDInvalid, func(sub *subscription) { sub.enabled = r.PublishingEnabled })}, ua.StatusOK
	case *ua.DeleteSubscriptionsRequest:
		return &ua.DeleteSubscriptionsResponse{Results: each(r.SubscriptionIDs, s.subscriptions,
			ua.StatusBadSubscriptionIDInvalid, s.forget)}, ua.StatusOK
	case *ua.CreateMonitoredItemsRequest:
		return s.monitor(r)
	case *ua.DeleteMonitoredItemsRequest:
		sub := s.subscriptions[r.SubscriptionID]
		if sub == nil {
			return nil, ua.StatusBadSubscriptionIDInvalid
		}
		return &ua.DeleteMonitoredItemsResponse{Results: each(r.MonitoredItemIDs, sub.items,
			ua.StatusBadMonitoredItemIDInvalid, func(it *item) {
				delete(sub.items, it.id)
				s.items--
			})}, ua.StatusOK
	case *ua.SetMonitoringModeRequest:
		sub := s.subscriptions[r.SubscriptionID]
		if sub == nil {
			return nil, ua.StatusBadSubscriptionIDInvalid
		}
		return &ua.SetMonitoringModeResponse{Results: each(r.MonitoredItemIDs, sub.items,
			ua.StatusBadMonitoredItemIDInvalid, func(it *item) { it.mode = r.MonitoringMode })}, ua.StatusOK
	case *ua.RepublishRequest:
		sub := s.subscriptions[r.SubscriptionID]
		if sub == nil {
			return nil, ua.StatusBadSubscriptionIDInvalid
		}
		for _, m := range sub.kept {
			if m.SequenceNumber == r.RetransmitSequenceNumber {
				return &ua.RepublishResponse{NotificationMessage: m}, ua.StatusOK
			}
		}
		return nil, ua.StatusBadMessageNotAvailable
	}
	return nil, ua.StatusBadServiceUnsupported
}

func (s *session) create(r *ua.CreateSubscriptionRequest) (ua.Response, ua.StatusCode) {
	if len(s.subscriptions) >= mostSubscriptions {
		return nil, ua.StatusBadTooManySubscriptions
	}
	life, end := context.WithCancel(s.life)
	sub := &subscription{of: s, id: s.server.ids.next(), enabled: r.PublishingEnabled, items: map[uint32]*item{}, end: end}
	sub.set(r.RequestedPublishingInterval, r.RequestedLifetimeCount, r.RequestedMaxKeepAliveCount)
	sub.quiet = sub.alive // it says at once that it is there
	s.subscriptions[sub.id] = sub
	s.server.all.Go(func() { sub.run(life) })
	return &ua.CreateSubscriptionResponse{SubscriptionID: sub.id, RevisedPublishingInterval: float64(sub.every) / 1e6,
		RevisedLifetimeCount: sub.lifetime, RevisedMaxKeepAliveCount: sub.alive}, ua.StatusOK
}

// set revises what is asked for.
func (sub *subscription) set(every float64, lifetime, alive uint32) {
	every = min(max(every, 20), 3_600_000)
	if revise := sub.of.server.config.Revise; revise != nil {
		every = revise(every)
	}
	sub.every = time.Duration(every * 1e6)
	sub.alive = min(max(alive, 1), 100_000)
	sub.lifetime = max(lifetime, 3*sub.alive)
}

func (s *session) forget(sub *subscription) {
	s.items -= len(sub.items)
	delete(s.subscriptions, sub.id)
	sub.end()
}

// monitor adds nodes to a subscription.
func (s *session) monitor(r *ua.CreateMonitoredItemsRequest) (ua.Response, ua.StatusCode) {
	sub := s.subscriptions[r.SubscriptionID]
	switch {
	case sub == nil:
		return nil, ua.StatusBadSubscriptionIDInvalid
	case len(r.ItemsToCreate) > mostAtOnce:
		return nil, ua.StatusBadTooManyOperations
	}
	answer := &ua.CreateMonitoredItemsResponse{DiagnosticInfos: []*ua.DiagnosticInfo{}}
	for _, each := range r.ItemsToCreate {
		result := &ua.MonitoredItemCreateResult{FilterResult: ua.NewExtensionObject(nil)}
		answer.Results = append(answer.Results, result)
		if each == nil || each.ItemToMonitor == nil || each.RequestedParameters == nil {
			result.StatusCode = ua.StatusBadNodeIDInvalid
			continue
		}
		n := s.node(each.ItemToMonitor.NodeID)
		switch {
		case n == nil:
			result.StatusCode = ua.StatusBadNodeIDUnknown
		case each.ItemToMonitor.AttributeID == ua.AttributeIDValue && n.variable == nil:
			result.StatusCode = ua.StatusBadAttributeIDInvalid
		case s.items >= mostItems:
			result.StatusCode = ua.StatusBadTooManyMonitoredItems
		}
		if result.StatusCode != ua.StatusOK {
			continue
		}
		p := each.RequestedParameters
		it := &item{id: s.server.ids.next(), what: each.ItemToMonitor, handle: p.ClientHandle, mode: each.MonitoringMode,
			most: int(min(max(p.QueueSize, 1), 1000)), every: sub.every}
		if p.SamplingInterval >= 0 {
			it.every = time.Duration(min(max(p.SamplingInterval, 20), 3_600_000) * 1e6)
		}
		if p.Filter != nil {
			if f, ok := p.Filter.Value.(*ua.DataChangeFilter); ok && f.DeadbandType == uint32(ua.DeadbandTypeAbsolute) {
				it.band = f.DeadbandValue
			}
		}
		sub.items[it.id] = it
		s.items++
		result.MonitoredItemID, result.RevisedQueueSize = it.id, uint32(it.most)
		result.RevisedSamplingInterval = float64(it.every) / 1e6
	}
	return answer, ua.StatusOK
}

// ask takes in a question for news.
func (s *session) ask(_ *caller, id uint32, r *ua.PublishRequest) ua.StatusCode {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.subscriptions) == 0 {
		return ua.StatusBadNoSubscription
	}
	if len(s.questions) >= mostPublish {
		return ua.StatusBadTooManyPublishRequests
	}
	q := question{id: id, request: r}
	for _, ack := range r.SubscriptionAcknowledgements {
		code := ua.StatusBadSequenceNumberUnknown
		if ack != nil && s.subscriptions[ack.SubscriptionID] != nil {
			sub := s.subscriptions[ack.SubscriptionID]
			for i, m := range sub.kept {
				if m.SequenceNumber == ack.SequenceNumber {
					sub.kept = append(sub.kept[:i], sub.kept[i+1:]...)
					code = ua.StatusOK
					break
				}
			}
		}
		q.results = append(q.results, code)
	}
	s.questions = append(s.questions, q)
	for _, sub := range s.subscriptions {
		sub.unasked = 0
	}
	return ua.StatusOK
}

// finest is how often it is looked at most.
const finest = 20 * time.Millisecond

// run samples the nodes of a subscription, and tells of them.
func (sub *subscription) run(life context.Context) {
	s := sub.of
	published := time.Now()
	for {
		select {
		case <-life.Done():
			return
		case <-time.After(finest):
		}
		now := time.Now()
		s.mu.Lock()
		for _, it := range sub.items {
			if it.mode != ua.MonitoringModeDisabled && !now.Before(it.due) {
				it.due = now.Add(it.every)
				it.sample(s.valueOf(it.what))
			}
		}
		if now.Sub(published) >= sub.every {
			published = now
			sub.publish()
		}
		s.mu.Unlock()
	}
}

// sample queues a value that is another than the one before.
func (it *item) sample(v *ua.DataValue) {
	octets, err := plainly(v)
	if err != nil || it.last != nil && v.Status == it.last.Status && bytes.Equal(octets, it.octets) {
		return
	}
	if it.last != nil && it.band > 0 && v.Status == it.last.Status {
		if a, b, ok := numbers(it.last, v); ok && abs(a-b) <= it.band {
			return
		}
	}
	it.last, it.octets = v, octets
	if len(it.queue) >= it.most {
		it.queue, it.overflow = it.queue[1:], true
	}
	it.queue = append(it.queue, v)
}

// plainly is a value without its times.
func plainly(v *ua.DataValue) ([]byte, error) {
	if v.Value == nil {
		return nil, nil
	}
	return v.Value.Encode()
}

func numbers(a, b *ua.DataValue) (x, y float64, ok bool) {
	number := func(v *ua.DataValue) (float64, bool) {
		if v.Value == nil {
			return 0, false
		}
		switch n := v.Value.Value().(type) {
		case float64:
			return n, true
		case float32:
			return float64(n), true
		case int16, int32, int64, int8:
			return float64(v.Value.Int()), true
		case uint16, uint32, uint64, byte:
			return float64(v.Value.Uint()), true
		}
		return 0, false
	}
	x, ok = number(a)
	y, also := number(b)
	return x, y, ok && also
}

func abs(f float64) float64 {
	if f < 0 {
		return -f
	}
	return f
}

// publish answers a question with what there is to say. It is called with the session's lock.
func (sub *subscription) publish() {
	s := sub.of
	silent, mute := false, false
	if s.server.config.Silent != nil {
		silent, mute = s.server.config.Silent()
	}
	if mute {
		return
	}
	news := false
	for _, it := range sub.items {
		news = news || it.mode == ua.MonitoringModeReporting && len(it.queue) > 0
	}
	news = news && sub.enabled && !silent
	if sub.quiet++; !news && sub.quiet < sub.alive {
		return
	}
	if len(s.questions) == 0 {
		if sub.unasked++; sub.unasked > sub.lifetime {
			s.forget(sub)
		}
		return
	}
	q := s.questions[0]
	s.questions = s.questions[1:]
	sub.quiet = 0
	m := &ua.NotificationMessage{SequenceNumber: sub.number + 1, PublishTime: time.Now().UTC(),
		NotificationData: []*ua.ExtensionObject{}}
	if news {
		sub.number++
		change := &ua.DataChangeNotification{DiagnosticInfos: []*ua.DiagnosticInfo{}}
		for _, it := range sub.items {
			if it.mode != ua.MonitoringModeReporting {
				continue
			}
			for _, v := range it.queue {
				change.MonitoredItems = append(change.MonitoredItems, &ua.MonitoredItemNotification{ClientHandle: it.handle,
					Value: v})
			}
			it.queue = nil
		}
		m.NotificationData = append(m.NotificationData, ua.NewExtensionObject(change))
		sub.kept = append(sub.kept, m)
		sub.kept = sub.kept[max(0, len(sub.kept)-keptMessages):]
		if s.server.config.Leaves != nil && s.server.config.Leaves(sub.number) {
			s.questions = append([]question{q}, s.questions...)
			return
		}
	}
	answer := &ua.PublishResponse{SubscriptionID: sub.id, NotificationMessage: m, Results: q.results,
		AvailableSequenceNumbers: []uint32{}, DiagnosticInfos: []*ua.DiagnosticInfo{}}
	for _, kept := range sub.kept {
		answer.AvailableSequenceNumbers = append(answer.AvailableSequenceNumbers, kept.SequenceNumber)
	}
	s.say(q.id, q.request, answer, ua.StatusOK)
}
