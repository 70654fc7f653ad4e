package lookout

import (
	"context"
	"encoding/json"
	"fmt"
	"log"
	"maps"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"

	"ferry/internal/core/lookout"
	"ferry/internal/core/site"
	"ferry/internal/field"
)

// Notice is what an outlet is told: what began and what is over since the last time.
type Notice struct {
	Site   string      `json:"site"`
	Mode   field.Mode  `json:"mode"`
	At     time.Time   `json:"at"`
	Title  string      `json:"title"`
	Text   string      `json:"text"`
	Events []NoticeOne `json:"events"`
	// More is how many events there were beside these.
	More int `json:"more,omitempty"`
}

// NoticeOne is one event in a notice.
type NoticeOne struct {
	// State is began, over, or was for one that began and was over before it was told.
	State string `json:"state"`
	// Times is how often it was so, where it was more than once; the event is the last.
	Times int `json:"times,omitempty"`
	lookout.Event
}

// OutletState is how it stands with an outlet.
type OutletState struct {
	Outlet string `json:"outlet"`
	Sent   int    `json:"sent"`
	SentMs int64  `json:"sentMs"` // the last time
	// Waiting is how many events go with the next notice; Lost were too many.
	Waiting int `json:"waiting"`
	Lost    int `json:"lost"`
	// Problem is why the last try failed, empty where it did not; Tries is how many
	// did one after the other.
	Problem string `json:"problem,omitempty"`
	Tries   int    `json:"tries,omitempty"`
}

// Bounds of what is told.
const (
	mostWaiting = 500
	mostInOne   = 40
	sendWithin  = 30 * time.Second
	longestRest = 5 * time.Minute
)

// queue is what waits for one outlet.
type queue struct {
	waiting []NoticeOne
	flight  []NoticeOne // those that are being told
	site    string
	mode    field.Mode
	next    time.Time // not before
	sending bool
	OutletState
}

// Teller tells outlets.
type Teller struct {
	// Ways by which outlets are told.
	Ways Ways

	mu     sync.Mutex
	queues map[string]*queue
	life   context.Context
	end    context.CancelFunc
	busy   sync.WaitGroup
	outlet func(id string) *site.Outlet // as the site has it now
}

// NewTeller returns a teller of the outlets of a site that is asked for each time.
func NewTeller(ways Ways, outlet func(id string) *site.Outlet) *Teller {
	t := &Teller{Ways: ways, queues: map[string]*queue{}, outlet: outlet}
	t.life, t.end = context.WithCancel(context.Background())
	return t
}

// Close ends what is being told.
func (t *Teller) Close() error {
	t.end()
	t.busy.Wait()
	return nil
}

// add has an event told to whom its lookout says.
func (t *Teller) add(s *site.Site, mode field.Mode, e *lookout.Event, now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, id := range e.Tell {
		o := s.Outlet(id)
		if o == nil || o.Off {
			continue
		}
		q := t.queue(id)
		q.site, q.mode = s.Name, mode
		one := NoticeOne{State: "began", Event: *e}
		if e.Over() {
			one.State = "over"
			// One that was not told of yet is told of once.
			if i := slices.IndexFunc(q.waiting, func(w NoticeOne) bool { return w.ID == e.ID }); i >= 0 {
				one.State = "was"
				q.was(i, one)
				continue
			}
		}
		if len(q.waiting) >= mostWaiting {
			q.Lost++
			continue
		}
		q.waiting = append(q.waiting, one)
	}
}

// again has what was not told wait before what came meanwhile.
func (q *queue) again(sent []NoticeOne) {
	since := q.waiting
	q.waiting = sent
	for _, one := range since {
		if i := slices.IndexFunc(q.waiting, func(w NoticeOne) bool { return w.ID == one.ID }); i >= 0 {
			one.State = "was"
			q.was(i, one)
			continue
		}
		q.waiting = append(q.waiting, one)
	}
}

// was puts one that began and was over in the place of its beginning, or with others of
// the same lookout about the same thing: what comes and goes is one line.
func (q *queue) was(i int, one NoticeOne) {
	for j := range q.waiting {
		if w := &q.waiting[j]; j != i && w.State == "was" && w.Lookout == one.Lookout && w.Subject == one.Subject {
			one.Times = max(w.Times, 1) + 1
			q.waiting = slices.Delete(q.waiting, i, i+1)
			if i < j {
				j--
			}
			q.waiting[j] = one
			return
		}
	}
	q.waiting[i] = one
}

func (t *Teller) queue(id string) *queue {
	q := t.queues[id]
	if q == nil {
		q = &queue{OutletState: OutletState{Outlet: id}}
		t.queues[id] = q
	}
	return q
}

// turn sends what waits, to each outlet one notice at a time.
func (t *Teller) turn(now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for id, q := range t.queues {
		o := t.outlet(id)
		if o == nil || o.Off {
			if !q.sending {
				delete(t.queues, id)
			}
			continue
		}
		if q.sending || len(q.waiting) == 0 || now.Before(q.next) || t.life.Err() != nil {
			continue
		}
		q.sending = true
		t.busy.Add(1)
		n := noticeOf(q, now)
		q.flight, q.waiting = q.waiting, nil
		go t.send(*o, q, n, now)
	}
}

// send sends a notice of what is in flight. What does not arrive waits again.
func (t *Teller) send(o site.Outlet, q *queue, n Notice, now time.Time) {
	defer t.busy.Done()
	err := t.Try(t.life, &o, n)
	t.mu.Lock()
	defer t.mu.Unlock()
	q.sending = false
	sent := q.flight
	q.flight = nil
	if err != nil {
		q.again(sent)
		if t.life.Err() == nil && q.Problem != err.Error() {
			log.Printf("lookouts: %s is not told: %v", o.Name, err)
		}
		q.Tries++
		q.Problem = err.Error()
		q.next = now.Add(min(5*time.Second<<min(q.Tries-1, 6), longestRest))
		return
	}
	q.Problem, q.Tries, q.Lost = "", 0, 0
	q.Sent++
	q.SentMs = now.UnixMilli()
	q.next = now.Add(time.Duration(o.EveryS) * time.Second)
}

// Try tells an outlet at once.
func (t *Teller) Try(ctx context.Context, o *site.Outlet, n Notice) (err error) {
	defer func() {
		if p := recover(); p != nil {
			log.Printf("lookouts: telling %s: %v\n%s", o.Name, p, debug.Stack())
			err = fmt.Errorf("a defect of Ferry's: %v", p)
		}
	}()
	ctx, cancel := context.WithTimeout(ctx, sendWithin)
	defer cancel()
	return t.Ways.tell(ctx, o, &n)
}

// Stands says how it stands with the outlets that were told, or are to be.
func (t *Teller) Stands() []OutletState {
	t.mu.Lock()
	defer t.mu.Unlock()
	list := []OutletState{}
	for _, id := range slices.Sorted(maps.Keys(t.queues)) {
		told := t.queues[id].OutletState
		told.Waiting = len(t.queues[id].waiting) + len(t.queues[id].flight)
		list = append(list, told)
	}
	return list
}

// noticeOf puts what waits into words.
func noticeOf(q *queue, now time.Time) Notice {
	events := slices.Clone(q.waiting[:min(len(q.waiting), mostInOne)])
	n := NewNotice(q.site, q.mode, events, now)
	if n.More = len(q.waiting) - len(events) + q.Lost; n.More > 0 {
		n.Text += fmt.Sprintf("and %d more: see the log of lookouts.\n", n.More)
	}
	return n
}

// NewNotice puts events into words.
func NewNotice(name string, mode field.Mode, events []NoticeOne, now time.Time) Notice {
	n := Notice{Site: name, Mode: mode, At: now, Events: events}
	began, over := 0, 0
	var b strings.Builder
	for i := range events {
		e := &events[i]
		from := time.UnixMilli(e.StartMs).Format("15:04:05")
		switch e.State {
		case "began":
			began++
			fmt.Fprintf(&b, "BEGAN %s  %s: %s\n", from, e.Name, e.Says)
		case "over":
			over++
			fmt.Fprintf(&b, "OVER  %s  %s: %s. %s\n", ended(&e.Event), e.Name, e.Subject.Name, e.Ended)
		default:
			over++
			fmt.Fprintf(&b, "WAS   %s to %s  %s: %s %s\n", from, ended(&e.Event), e.Name, e.Says, e.Ended)
			if e.Times > 1 {
				fmt.Fprintf(&b, "      It was so %d times since the last notice; this was the last.\n", e.Times)
			}
		}
	}
	switch {
	case len(events) == 1 && began == 1:
		n.Title = fmt.Sprintf("%s: %s — %s", name, events[0].Name, events[0].Subject.Name)
	case len(events) == 1:
		n.Title = fmt.Sprintf("%s: over: %s — %s", name, events[0].Name, events[0].Subject.Name)
	default:
		n.Title = fmt.Sprintf("%s: %d began, %d over", name, began, over)
	}
	if mode == field.Bench {
		n.Title = "[bench] " + n.Title
	}
	n.Text = b.String()
	return n
}

func ended(e *lookout.Event) string {
	if e.EndMs <= 0 {
		return "unknown"
	}
	return time.UnixMilli(e.EndMs).Format("15:04:05")
}

// JSON is a notice as webhooks, messages and programs get it.
func (n *Notice) JSON() ([]byte, error) { return json.Marshal(n) }
