package field

import (
	"context"
	"time"

	"ferry/internal/core/exchange"
	"ferry/internal/core/problem"
	"ferry/internal/core/site"
)

// Messenger is a Conn that carries a text to whoever listens for it: that of every
// protocol with protocol.Messages.
type Messenger interface {
	SendMessage(to, text string) Reply
}

// messageWithin bounds how long a message may take.
const messageWithin = 15 * time.Second

// Message sends a text over a link, by a session of its own. It is refused where a point
// of the site would take the text for its value: a message moves nothing.
func (e *Engine) Message(ctx context.Context, linkID, to, text string) error {
	e.mu.Lock()
	s := e.site
	link := s.Link(linkID)
	if link == nil {
		e.mu.Unlock()
		return problem.New("gone", "The link is no longer in the site.", "Choose another.").At(linkID)
	}
	driver, def, err := DriverOf(link.Protocol)
	var target Target
	if err == nil {
		target, _, err = e.targetOf(link)
	}
	e.mu.Unlock()
	if err != nil {
		return err
	}
	m, ok := def.Messages()
	if !ok {
		return problem.New("no-message", def.Title+" carries no messages.", "Choose a link to a broker.")
	}
	if err := m.CheckMessage(to); err != nil {
		return problem.New("invalid", err.Error()+".", "").At(to)
	}
	for place := range placesOver(s, link) {
		if m.IsOf(place.Address, to) {
			return problem.New("is-point", "A message there would be the value of the point "+place.Name+".",
				"Send it under a name that no point of the site has.").At(to)
		}
	}
	if second, ok := def.Second(target.Settings); ok {
		target.Settings = second
	}
	ctx, cancel := context.WithTimeout(ctx, messageWithin)
	defer cancel()
	conn, reply := driver.Dial(ctx, target)
	if conn == nil {
		return problem.New("not-sent", "It is not let in: "+reply.Sentence+".", "")
	}
	defer conn.Close()
	sender, ok := conn.(Messenger)
	if !ok {
		return problem.New("no-message", def.Title+" carries no messages.", "Choose a link to a broker.")
	}
	if reply = sender.SendMessage(to, text); reply.Outcome != exchange.Answered {
		return problem.New("not-sent", "It was not taken: "+reply.Sentence+".", "")
	}
	return nil
}

// placesOver goes through the points of every device that answers where a link goes.
func placesOver(s *site.Site, link *site.Link) func(func(*site.Point) bool) {
	return func(yield func(*site.Point) bool) {
		for i := range s.Devices {
			d := &s.Devices[i]
			if d.ID != link.Answering && d.Port(link.Line) == nil {
				continue
			}
			for j := range d.Points {
				if !yield(&d.Points[j]) {
					return
				}
			}
		}
	}
}
