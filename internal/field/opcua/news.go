package opcua

import (
	"context"
	"fmt"
	"runtime/debug"
	"time"

	"github.com/gopcua/opcua/ua"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/opcua"
	"ferry/internal/field"
	wire "ferry/internal/wire/opcua"
)

// news asks a server for what its subscriptions have to tell. The questions are the session's: what
// answers one that was asked before a subscription was there may be of that subscription.
type news struct {
	of      *conn
	current *subscription // nil for none
	turns   chan *subscription
	came    chan answered
	open    int // questions that wait at the server
	most    int // how many may
	stale   int // of those, asked before the current subscription was there
	early   []early

	asks  []exchange.Frame // questions that were not told of yet
	asked time.Time        // when the first of them went
}

// early is a message of a subscription that is not known yet.
type early struct {
	at     time.Time
	answer *ua.PublishResponse
	whole  answered
}

// waiting is how many questions for news wait at the server at once, mostEarly how many messages of
// a subscription that is not known yet are kept, and asksAfter how long questions are kept to be
// told of together.
const (
	waiting   = 3
	mostEarly = 100
	asksAfter = time.Second
)

// turn has another subscription followed from now on; nil for none.
func (c *conn) turn(to *subscription) {
	c.mu.Lock()
	n := c.news
	if n == nil && to != nil {
		n = &news{of: c, turns: make(chan *subscription), came: make(chan answered, 2*waiting), most: waiting}
		c.news = n
		go n.run()
	}
	c.mu.Unlock()
	if n == nil {
		return
	}
	select {
	case n.turns <- to:
	case <-c.life.Done():
	case <-c.ended:
	}
}

// within is after what time without an answer the server has forgotten the questions.
func (n *news) within() time.Duration {
	if n.current == nil {
		return longest
	}
	s := n.current
	return time.Duration(min(float64(s.alive+1)*waiting*s.every.Seconds(), longest.Seconds())*float64(time.Second)) +
		n.of.within
}

// run asks for news until the session ends. What comes is taken in as it came: which of several
// questions it answers says nothing of the order.
func (n *news) run() {
	defer func() { // a defect costs this session alone
		if p := recover(); p != nil {
			n.lost(fmt.Errorf("a defect of Ferry's own: %v\n%s", p, debug.Stack()))
		}
	}()
	late := time.NewTimer(longest)
	defer late.Stop()
	for n.of.life.Err() == nil {
		for ; n.current != nil && n.open < n.most; n.open++ {
			if err := n.ask(); err != nil {
				n.lost(err)
				return
			}
		}
		n.tell()
		var looked, fetched chan answered
		if n.current != nil {
			looked, fetched = n.current.looking.came, n.current.fetched
		}
		select {
		case to := <-n.turns:
			n.turn(to)
			late.Reset(n.within())
		case a := <-looked:
			n.current.looked(a)
		case a := <-fetched:
			n.current.came(a)
		case a := <-n.came:
			late.Reset(n.within())
			if n.open--; !n.answered(a) {
				return
			}
			if n.most == 0 {
				n.lost(a.err)
				return
			}
		case <-late.C:
			n.lost(context.DeadlineExceeded)
			return
		case <-n.of.ended:
			n.lost(n.of.why())
			return
		case <-n.of.life.Done():
		}
	}
}

// turn follows another subscription, of which messages may have come already.
func (n *news) turn(to *subscription) {
	n.current = to
	if to == nil {
		n.stale = n.open
		return
	}
	for _, e := range n.early {
		if e.answer.SubscriptionID == to.id {
			to.took(e.answer, e.at, &e.whole)
		}
	}
	n.early = nil
}

func (n *news) ask() error {
	s := n.current
	request := &ua.PublishRequest{SubscriptionAcknowledgements: s.acks}
	request.SetHeader(head(n.of.token, n.within()))
	id, err := n.of.post(wire.AnyMessage, request, n.came, kept)
	if err != nil {
		return err
	}
	s.acks = nil
	now := time.Now()
	if len(n.asks) == 0 {
		n.asked = now
	}
	n.asks = append(n.asks, exchange.Frame{Out: true, AfterMs: float64(now.Sub(n.asked)) / float64(time.Millisecond),
		Octets: n.of.take(id)})
	return nil
}

// tell tells of questions, several at once.
func (n *news) tell() {
	if k := len(n.asks); k == 0 || k < waiting && time.Since(n.asked) < asksAfter {
		return
	}
	n.of.hand(field.Report{At: n.asked, Operation: fmt.Sprintf("ask for news, %d times", len(n.asks)), Frames: n.asks,
		Aside: true})
	n.asks = nil
}

// answered takes in the answer to a question, and reports whether to go on.
func (n *news) answered(a answered) bool {
	at := time.Now()
	if a.err != nil {
		switch code, _ := status(a.err); {
		case code == family.BadTooManyPublish:
			n.most--
			return true
		case code == family.BadTimeout, code == family.BadWaitingForData:
			return true // the end is silent, which whoever counts its signs of life finds out
		case code == family.BadNoSubscription && n.stale > 0:
			n.stale--
			return true // it had none while one took the place of another
		}
		n.lost(a.err)
		return false
	}
	answer, ok := a.response.(*ua.PublishResponse)
	switch {
	case !ok:
		n.lost(fmt.Errorf("the server answers a question for news with a %T", a.response))
		return false
	case answer.NotificationMessage == nil:
	case n.current != nil && answer.SubscriptionID == n.current.id:
		n.current.took(answer, at, &a)
	case n.current == nil && len(n.early) < mostEarly:
		n.early = append(n.early, early{at, answer, a})
	}
	return true
}

// lost ends the connection.
func (n *news) lost(err error) { n.of.finish(n.of.failed(err, "the question for news")) }
