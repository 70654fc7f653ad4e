package field

import (
	"context"
	"math"
	"strings"
	"sync"
	"testing"
	"time"

	"ferry/internal/core/address"
	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// odd is a protocol whose far end does whatever a test says.
var odd = &protocol.Def{Name: "odd-reports", Title: "Odd", Medium: "ethernet", Turns: protocol.TurnsOfLink,
	Scheme: oddScheme{}, Rules: oddRules{}}

type oddScheme struct{}

func (oddScheme) Parse(text, _ string) (address.Address, error) {
	return address.Named("odd", text), nil
}
func (oddScheme) Short(a address.Address) string               { return a.String() }
func (oddScheme) Notations(address.Address) []address.Notation { return nil }
func (oddScheme) Compare(a, b address.Address) int             { return address.Compare(a, b) }
func (oddScheme) Check(address.Address, value.Shape) error     { return nil }

type oddRules struct{}

func (oddRules) Expected(protocol.Settings, []protocol.Wanted) []protocol.Load { return nil }
func (oddRules) Lapse(protocol.Settings) protocol.Lapse {
	return protocol.Lapse{AfterMs: 200, Quality: value.Bad}
}

// oddEnd is the far end: what it refuses, and what it sends.
type oddEnd struct {
	mu      sync.Mutex
	dialled int
	dial    func(n int) *Reply // nil for a connection
	follow  func(n int, wanted []protocol.Wanted) (Reply, []Refusal)
	send    func(n int, reports chan<- Report, ended <-chan struct{})
}

func (e *oddEnd) Dial(context.Context, Target) (Conn, Reply) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.dialled++
	if e.dial != nil {
		if reply := e.dial(e.dialled); reply != nil {
			return nil, *reply
		}
	}
	c := &oddConn{end: e, n: e.dialled, reports: make(chan Report), ended: make(chan struct{})}
	go func() {
		defer close(c.reports)
		e.send(c.n, c.reports, c.ended)
	}()
	return c, Reply{Outcome: exchange.Answered}
}

func (*oddEnd) Dissect(frames []exchange.Frame, _ []exchange.Labelled) [][]exchange.Field {
	return make([][]exchange.Field, len(frames))
}

func (e *oddEnd) dials() int {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.dialled
}

type oddConn struct {
	end     *oddEnd
	n       int
	reports chan Report
	ended   chan struct{}
	once    sync.Once
}

func (c *oddConn) Follow(wanted []protocol.Wanted) (Reply, []Refusal) {
	if c.end.follow != nil {
		return c.end.follow(c.n, wanted)
	}
	return Reply{Outcome: exchange.Answered}, nil
}
func (c *oddConn) Reports() <-chan Report   { return c.reports }
func (c *oddConn) Ended() Reply             { return Reply{Outcome: exchange.Closed, Sentence: "it hung up"} }
func (c *oddConn) Toward(protocol.Settings) {}
func (c *oddConn) Break()                   {}
func (c *oddConn) Usable() bool             { return true }
func (c *oddConn) Close() error {
	c.once.Do(func() { close(c.ended) })
	return nil
}

// listened runs a channel to an odd end for a point of float32 and one of text.
func listened(t *testing.T, end *oddEnd) (*Hub, *channel, *runner) {
	t.Helper()
	if _, known := protocol.Named(odd.Name); !known {
		protocol.Register(odd)
		Register(odd.Name, end)
	}
	device := &site.Device{ID: "d", Name: "Odd device", Map: odd.Name, Points: []site.Point{
		{ID: "p", Name: "Oxygen", Address: address.Named("odd", "o"), Type: value.TypeFloat32, PaceMs: 100, Access: "r"},
		{ID: "q", Name: "Label", Address: address.Named("odd", "l"), Type: value.TypeText, Length: 4, PaceMs: 100,
			Access: "r"}}}
	hub := NewHub()
	r, err := newRunner(&site.Link{ID: "k", Answering: "d", Protocol: odd.Name}, device, nil, hub)
	if err != nil {
		t.Fatal(err)
	}
	c := newChannel(context.Background(), end, Target{Dial: "there"})
	c.add(r)
	c.start()
	t.Cleanup(func() { c.end(); <-c.done })
	return hub, c, r
}

func becomes(t *testing.T, what string, is func() bool) {
	t.Helper()
	for range 300 {
		if is() {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	t.Errorf("it did not come about that %s", what)
}

func report(samples ...Sampled) Report {
	return Report{At: time.Now(), Operation: "report", Octets: []byte("0123456789"), Samples: samples}
}

// until sends what a function makes, every few milliseconds, until the connection
// is closed.
func until(reports chan<- Report, ended <-chan struct{}, make func() Report) {
	for {
		select {
		case <-ended:
			return
		case reports <- make():
			time.Sleep(2 * time.Millisecond)
		}
	}
}

// TestOddReports: whatever comes in a report, a value is taken as what the map
// says or not at all, and nothing ends the program.
func TestOddReports(t *testing.T) {
	for _, c := range []struct {
		name    string
		s       Sampled
		quality value.Quality
		reason  string
	}{
		{"well", Sampled{ID: "p", Value: value.OfFloat(8.5), From: 0, To: 4}, value.Good, ""},
		{"a whole number", Sampled{ID: "p", Value: value.OfInt(8)}, value.Good, ""},
		{"a text", Sampled{ID: "p", Value: value.OfText("8.5")}, value.Bad, "came as a text"},
		{"no value", Sampled{ID: "p"}, value.Bad, "no value"},
		{"no number", Sampled{ID: "p", Value: value.OfFloat(math.NaN())}, value.Doubtful, "number"},
		{"beyond a float32", Sampled{ID: "p", Value: value.OfFloat(1e300)}, value.Bad, "beyond"},
		{"bad, by the device", Sampled{ID: "p", Value: value.OfFloat(8), Quality: value.Bad, Reason: "sensor failed"},
			value.Bad, "sensor failed"},
		{"doubtful, by the device", Sampled{ID: "p", Value: value.OfFloat(8), Quality: value.Doubtful, Reason: "substituted"},
			value.Doubtful, "substituted"},
		{"octets outside", Sampled{ID: "p", Value: value.OfFloat(8.5), From: 8, To: 400}, value.Good, ""},
		{"octets backwards", Sampled{ID: "p", Value: value.OfFloat(8.5), From: 8, To: -3}, value.Good, ""},
		{"too long", Sampled{ID: "q", Value: value.OfText("Skerry Point")}, value.Bad, "12 octets"},
		{"of nobody", Sampled{ID: "x", Value: value.OfFloat(8.5)}, value.NotRead, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			hub, _, _ := listened(t, &oddEnd{send: func(_ int, reports chan<- Report, ended <-chan struct{}) {
				until(reports, ended, func() Report { return report(c.s) })
			}})
			id := c.s.ID
			if id == "x" {
				id = "p"
			}
			becomes(t, string(c.quality), func() bool {
				live, _ := hub.Point(id)
				return live.Quality == c.quality && strings.Contains(live.Reason, c.reason) && len(hub.Exchanges(0, 9)) > 2
			})
		})
	}
}

// TestFlood: a device that sends as fast as it can keeps nobody from the
// connection, and no value from being the latest.
func TestFlood(t *testing.T) {
	n := 0
	hub, c, r := listened(t, &oddEnd{send: func(_ int, reports chan<- Report, ended <-chan struct{}) {
		for {
			n++
			select {
			case <-ended:
				return
			case reports <- report(Sampled{ID: "p", Value: value.OfInt(int64(n))}):
			}
		}
	}})
	becomes(t, "it floods", func() bool { return hub.LastSeq() > 10_000 })
	for range 20 {
		began := time.Now()
		if err := c.between(context.Background(), r, func(*runner, Conn, Reply) {}); err != nil ||
			time.Since(began) > 200*time.Millisecond {
			t.Errorf("somebody else gets the connection after %v: %v", time.Since(began), err)
		}
	}
}

// TestSilence: an end that gives no sign of life makes its values what its protocol
// says, is connected anew, and its values are good again once it reports them.
func TestSilence(t *testing.T) {
	end := &oddEnd{send: func(n int, reports chan<- Report, ended <-chan struct{}) {
		reports <- report(Sampled{ID: "p", Value: value.OfFloat(float64(n))})
		if n > 1 {
			until(reports, ended, func() Report { return Report{At: time.Now(), Operation: "alive"} })
		}
		<-ended
	}}
	hub, _, _ := listened(t, end)
	becomes(t, "the value is bad in silence", func() bool {
		live, _ := hub.Point("p")
		return live.Quality == value.Bad && strings.Contains(live.Reason, "sign of life")
	})
	becomes(t, "it is connected anew and good", func() bool {
		live, _ := hub.Point("p")
		return live.Quality == value.Good && live.Value.Float() == 2
	})
	time.Sleep(400 * time.Millisecond) // twice what it may be silent, with signs of life
	hub.Age(time.Now().Add(time.Minute))
	if live, _ := hub.Point("p"); live.Quality != value.Bad {
		t.Errorf("a minute without a look at the connection leaves %+v", live)
	}
	if end.dials() != 2 {
		t.Errorf("it was dialled %d times", end.dials())
	}
}

// TestHangsUp: a connection that ends at once is not opened again at once, and one
// that panics costs itself alone.
func TestHangsUp(t *testing.T) {
	end := &oddEnd{send: func(n int, reports chan<- Report, _ <-chan struct{}) {
		reports <- report(Sampled{ID: "p", Value: value.OfFloat(1)})
	}}
	hub, _, _ := listened(t, end)
	becomes(t, "the value is bad", func() bool {
		live, _ := hub.Point("p")
		return live.Quality == value.Bad && strings.Contains(live.Reason, "hung up")
	})
	time.Sleep(300 * time.Millisecond)
	if n := end.dials(); n > 2 {
		t.Errorf("it was dialled %d times in a moment", n)
	}
	failing := &oddEnd{follow: func(int, []protocol.Wanted) (Reply, []Refusal) { panic("a defect") },
		send: func(_ int, _ chan<- Report, ended <-chan struct{}) { <-ended }}
	hub, _, _ = listened(t, failing)
	becomes(t, "the defect is on record", func() bool {
		list := hub.Exchanges(0, 9)
		return len(list) > 0 && strings.Contains(list[0].Sentence, "defect")
	})
}

// TestRefusedPoints: a point that the device does not report is bad with the
// reason, beside others that are good, and is asked for again.
func TestRefusedPoints(t *testing.T) {
	asked := 0
	end := &oddEnd{
		follow: func(_ int, wanted []protocol.Wanted) (Reply, []Refusal) {
			if asked++; asked > 1 {
				return Reply{Outcome: exchange.Answered}, nil
			}
			return Reply{Outcome: exchange.Answered}, []Refusal{{ID: "q", Code: 7, Sentence: "there is no such label"}}
		},
		send: func(_ int, reports chan<- Report, ended <-chan struct{}) {
			until(reports, ended, func() Report { return report(Sampled{ID: "p", Value: value.OfFloat(1)}) })
		}}
	hub, c, _ := listened(t, end)
	becomes(t, "one is good and the other is not", func() bool {
		p, _ := hub.Point("p")
		q, _ := hub.Point("q")
		return p.Quality == value.Good && q.Quality == value.Bad && strings.Contains(q.Reason, "no such label")
	})
	c.revise(func() { c.runners[0].reports.again = time.Now() })
	becomes(t, "it is asked for again", func() bool {
		list := hub.Exchanges(0, 5000)
		n := 0
		for _, e := range list {
			if strings.Contains(e.Operation, "ask to be told") {
				n++
			}
		}
		return n > 1
	})
}
