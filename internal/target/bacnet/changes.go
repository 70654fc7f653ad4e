package bacnet

import (
	"math"
	"net/netip"
	"slices"
	"time"

	family "ferry/internal/core/family/bacnet"
	wire "ferry/internal/wire/bacnet"
)

// wish tells subscriptions apart (clause 13.14.1).
type wish struct {
	from    netip.AddrPort
	behind  wire.Station
	process uint32
	object  wire.ObjectID
}

// subscription is what somebody wants to be told of an object.
type subscription struct {
	wish
	confirms bool
	until    time.Time // zero for without end
	// told is what was told last.
	told      wire.Value
	toldFlags uint8
	toldOnce  bool
	// busy is set while a report is not confirmed, waits where another is due after it.
	busy  bool
	waits bool
	// starves is set while there is no number for its report.
	starves bool
}

// report is one that is to be confirmed.
type report struct {
	sub   *subscription
	body  []byte
	due   time.Time
	tries int
}

// subscribe takes a wish; sub is nil for one that ends.
func (s *Server) subscribe(from asker, w *wire.Subscription) (sub *subscription, failed *wire.Failure) {
	key := wish{from.from, from.behind, w.Process, w.Object}
	if w.Cancels {
		if sub = s.wishes[key]; sub != nil {
			s.forget(sub)
		}
		return nil, nil
	}
	if s.space.by[w.Object] == nil {
		return nil, unknownObject
	}
	if sub = s.wishes[key]; sub == nil {
		if len(s.wishes) >= mostSubscriptions {
			return nil, noSpace
		}
		sub = &subscription{wish: key}
		s.wishes[key] = sub
		s.followed[w.Object] = append(s.followed[w.Object], sub)
	}
	sub.confirms, sub.until = w.Confirms, time.Time{}
	if w.Seconds > 0 {
		sub.until = time.Now().Add(time.Duration(w.Seconds) * time.Second)
	}
	return sub, nil
}

// Forget ends all subscriptions, as a restart does.
func (s *Server) Forget() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, sub := range s.wishes {
		s.forget(sub)
	}
}

// forget ends a subscription.
func (s *Server) forget(sub *subscription) {
	delete(s.wishes, sub.wish)
	left := slices.DeleteFunc(slices.Clone(s.followed[sub.object]), func(each *subscription) bool { return each == sub })
	if s.followed[sub.object] = left; len(left) == 0 {
		delete(s.followed, sub.object)
	}
}

// tells reports whether what stands in an object now is to be told: it has moved far enough, or its status
// is another (clause 13.1, table 13-1).
func (sub *subscription) tells(o *Object) bool {
	is := o.present()
	switch {
	case !sub.toldOnce || o.flags() != sub.toldFlags || is.Tag != sub.told.Tag:
		return true
	case is.Tag == wire.TagReal || is.Tag == wire.TagDouble:
		return is.Float != sub.told.Float && !(math.Abs(is.Float-sub.told.Float) < o.Step)
	}
	return is.Uint != sub.told.Uint || is.Int != sub.told.Int || is.Text != sub.told.Text
}

// report tells what stands in an object.
func (s *Server) report(sub *subscription, now time.Time) {
	o := s.space.by[sub.object]
	if o == nil {
		return
	}
	if sub.busy {
		sub.waits = true // once the one before is confirmed
		return
	}
	left := uint32(0)
	if !sub.until.IsZero() {
		left = uint32(max(1, sub.until.Sub(now)/time.Second))
	}
	is := o.present()
	flags := wire.Bits(uint64(o.flags()), flagCount)
	c := wire.Change{Process: sub.process, Device: s.space.id(), Object: sub.object, Seconds: left, Values: []wire.Told{
		{Property: uint32(family.PresentValue), Index: wire.Whole, Values: []wire.Value{is}},
		{Property: uint32(family.StatusFlags), Index: wire.Whole, Values: []wire.Value{flags}}}}
	sub.told, sub.toldFlags, sub.toldOnce = is, o.flags(), true
	to := asker{sub.from, sub.behind, 0}
	s.gave(to, []wire.Result{{Reference: wire.Reference{Object: sub.object, Property: uint32(family.PresentValue)}}}, true)
	if !sub.confirms {
		s.send(to, &wire.Message{Kind: wire.Unconfirmed, Service: wire.UnconfirmedCOV, Body: c.Append(nil)}, false)
		return
	}
	of := s.readerOf(sub)
	if of.under < mostOfReader {
		for range mostUnderWay {
			if s.invoke++; s.reports[s.invoke] == nil {
				r := &report{sub: sub, body: c.Append(nil), due: now.Add(answerMs * time.Millisecond)}
				s.reports[s.invoke] = r
				sub.busy = true
				of.under++
				s.ask(s.invoke, r)
				return
			}
		}
	}
	sub.toldOnce = false
	if !sub.starves { // it is told once there is a number free
		sub.starves = true
		of.starving = append(of.starving, sub)
	}
}

// reader is somebody who is told, with those of his subscriptions that wait until fewer reports are under way.
type reader struct {
	under    int
	starving []*subscription
}

// Bounds of reports that wait to be confirmed: each has a number in an octet, and one who does not confirm keeps
// the others waiting little.
const (
	mostUnderWay = 256
	mostOfReader = 32
)

func (s *Server) readerOf(sub *subscription) *reader {
	key := asker{from: sub.from, behind: sub.behind}
	of := s.readers[key]
	if of == nil {
		of = &reader{}
		s.readers[key] = of
	}
	return of
}

// feed tells those who wait, as far as there are numbers now. The lock is held.
func (s *Server) feed() {
	for key, of := range s.readers {
		for len(of.starving) > 0 && of.under < mostOfReader && len(s.reports) < mostUnderWay {
			sub := of.starving[0]
			of.starving = of.starving[1:]
			if sub.starves = false; s.wishes[sub.wish] == sub {
				s.report(sub, time.Now())
			}
		}
		if of.under == 0 && len(of.starving) == 0 {
			delete(s.readers, key)
		}
	}
}

func (s *Server) ask(invoke uint8, r *report) {
	s.send(asker{r.sub.from, r.sub.behind, invoke}, &wire.Message{Kind: wire.Confirmed, Invoke: invoke,
		Service: wire.ConfirmedCOV, MostOctets: wire.MostOctets, Body: r.body}, true)
}

// confirmedReport ends a report that was confirmed, or refused.
func (s *Server) confirmedReport(from asker, refused bool) {
	r := s.reports[from.invoke]
	if r == nil || r.sub.from != from.from || r.sub.behind != from.behind {
		return
	}
	s.endReport(from.invoke, r, refused)
}

func (s *Server) endReport(invoke uint8, r *report, refused bool) {
	delete(s.reports, invoke)
	s.readerOf(r.sub).under--
	defer s.feed()
	sub := r.sub
	sub.busy = false
	if refused {
		s.forget(sub) // who does not take it wants it no more
		return
	}
	if sub.waits && s.wishes[sub.wish] == sub {
		sub.waits = false
		if o := s.space.by[sub.object]; o != nil && sub.tells(o) {
			s.report(sub, time.Now())
		}
	}
}

// resend sends reports again that nobody confirmed.
func (s *Server) resend(now time.Time) {
	for invoke, r := range s.reports {
		switch {
		case now.Before(r.due):
		case r.tries >= retriesHere:
			s.endReport(invoke, r, false)
		default:
			r.tries++
			r.due = now.Add(answerMs * time.Millisecond)
			s.ask(invoke, r)
		}
	}
}
