package opcua

import (
	"context"
	"slices"
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
	order   []*item          // as they were created
	number  uint32           // of the last message with news
	most    int              // values in one message
	quiet   uint32           // intervals since something was said
	unasked uint32           // intervals without a question
	kept    []*ua.NotificationMessage
}

// mostTold is how many values a client takes in one message, of which 0 stands for no bound.
func mostTold(asked uint32) int {
	if asked == 0 {
		return mostItems
	}
	return int(min(asked, mostItems))
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
		sub.most = mostTold(r.MaxNotificationsPerPublish)
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
	case *ua.ModifyMonitoredItemsRequest:
		return s.remodel(r)
	case *ua.DeleteMonitoredItemsRequest:
		sub := s.subscriptions[r.SubscriptionID]
		if sub == nil {
			return nil, ua.StatusBadSubscriptionIDInvalid
		}
		results := each(r.MonitoredItemIDs, sub.items, ua.StatusBadMonitoredItemIDInvalid, func(it *item) {
			delete(sub.items, it.id)
			s.items--
		})
		sub.order = slices.DeleteFunc(sub.order, func(it *item) bool { return sub.items[it.id] != it })
		return &ua.DeleteMonitoredItemsResponse{Results: results}, ua.StatusOK
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
	sub.most = mostTold(r.MaxNotificationsPerPublish)
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
	case len(r.ItemsToCreate) > s.server.atOnce():
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
		it := &item{id: s.server.ids.next(), what: each.ItemToMonitor, mode: each.MonitoringMode, times: r.TimestampsToReturn}
		if result.StatusCode = it.set(each.RequestedParameters, n, sub.every); result.StatusCode != ua.StatusOK {
			continue
		}
		sub.items[it.id] = it
		sub.order = append(sub.order, it)
		s.items++
		result.MonitoredItemID, result.RevisedQueueSize = it.id, uint32(it.most)
		result.RevisedSamplingInterval = float64(it.every) / 1e6
	}
	return answer, ua.StatusOK
}

// remodel has nodes watched otherwise.
func (s *session) remodel(r *ua.ModifyMonitoredItemsRequest) (ua.Response, ua.StatusCode) {
	sub := s.subscriptions[r.SubscriptionID]
	if sub == nil {
		return nil, ua.StatusBadSubscriptionIDInvalid
	}
	answer := &ua.ModifyMonitoredItemsResponse{DiagnosticInfos: []*ua.DiagnosticInfo{}}
	for _, each := range r.ItemsToModify {
		result := &ua.MonitoredItemModifyResult{FilterResult: ua.NewExtensionObject(nil)}
		answer.Results = append(answer.Results, result)
		if each == nil || each.RequestedParameters == nil || sub.items[each.MonitoredItemID] == nil {
			result.StatusCode = ua.StatusBadMonitoredItemIDInvalid
			continue
		}
		it := sub.items[each.MonitoredItemID]
		if result.StatusCode = it.set(each.RequestedParameters, s.node(it.what.NodeID),
			sub.every); result.StatusCode == ua.StatusOK {
			it.times = r.TimestampsToReturn
			result.RevisedQueueSize, result.RevisedSamplingInterval = uint32(it.most), float64(it.every)/1e6
		}
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
		for _, it := range sub.order {
			if it.mode != ua.MonitoringModeDisabled && !now.Before(it.due) {
				it.due = now.Add(it.every)
				if it.sample(s.valueOf(it.what)) && it.mode == ua.MonitoringModeReporting {
					s.gave(it.what, true)
				}
			}
		}
		if now.Sub(published) >= sub.every {
			published = now
			sub.publish()
		}
		s.mu.Unlock()
	}
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
	for _, it := range sub.order {
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
	more := false
	m := &ua.NotificationMessage{SequenceNumber: sub.number + 1, PublishTime: time.Now().UTC(),
		NotificationData: []*ua.ExtensionObject{}}
	if news {
		sub.number++
		change := &ua.DataChangeNotification{DiagnosticInfos: []*ua.DiagnosticInfo{}}
		for _, it := range sub.order {
			if it.mode != ua.MonitoringModeReporting {
				continue
			}
			for len(it.queue) > 0 && len(change.MonitoredItems) < sub.most {
				change.MonitoredItems = append(change.MonitoredItems, &ua.MonitoredItemNotification{ClientHandle: it.handle,
					Value: stamped(it.queue[0], it.times)})
				it.queue = it.queue[1:]
			}
			more = more || len(it.queue) > 0
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
		AvailableSequenceNumbers: []uint32{}, DiagnosticInfos: []*ua.DiagnosticInfo{}, MoreNotifications: more}
	for _, kept := range sub.kept {
		answer.AvailableSequenceNumbers = append(answer.AvailableSequenceNumbers, kept.SequenceNumber)
	}
	s.say(q.id, q.request, answer, ua.StatusOK)
	if more && len(s.questions) > 0 {
		sub.publish()
	}
}
