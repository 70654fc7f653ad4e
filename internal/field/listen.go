package field

import (
	"context"
	"time"

	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// Listen hears a line of a plant without asking, so that nobody is disturbed.
func (e *Engine) Listen(ctx context.Context, lineID string, d time.Duration) (*Heard, error) {
	e.mu.Lock()
	line := e.site.Line(lineID)
	if line == nil || line.Medium != site.SerialLine {
		e.mu.Unlock()
		return nil, problem.New("no-serial-line", "Only a serial line can be listened to.", "").At(lineID)
	}
	link := &site.Link{ID: "listen", Line: line.ID, Protocol: protocolOf(e.site, line), Settings: protocol.Settings{}}
	for i := range e.site.Links {
		if e.site.Links[i].Line == line.ID {
			link.Asking, link.Answering = e.site.Links[i].Asking, e.site.Links[i].Answering
		}
	}
	was := e.told[lineID]
	e.told[lineID] = time.Now().Add(time.Minute) // listening asks nothing
	target, key, err := e.targetOf(link)
	e.told[lineID] = was
	busy := e.channels[key] != nil
	life := e.door.life
	e.mu.Unlock()
	if err != nil {
		return nil, err
	}
	if busy {
		return nil, problem.New("running", line.Name+" is being asked by Ferry itself.",
			"Stop the run of its links first.").At(line.Name)
	}
	driver, _, err := DriverOf(link.Protocol)
	if err != nil {
		return nil, problem.From(err, "protocol")
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer context.AfterFunc(life, cancel)() // it ends with the mode
	conn, reply := driver.Dial(ctx, target)
	if conn == nil {
		return nil, problem.New("not-open", sentence(reply.Sentence),
			"Choose another port in the panel of the line.").At(line.Name)
	}
	defer conn.Close()
	ear, ok := conn.(Listener)
	if !ok {
		return nil, problem.New("no-serial-line", "This protocol cannot be listened to.", "").At(line.Name)
	}
	heard := ear.Listen(ctx, d)
	e.mu.Lock()
	defer e.mu.Unlock()
	if life.Err() != nil {
		return nil, problem.New("stopped", "Listening ended because the mode changed.", "Listen again.").At(line.Name)
	}
	e.heard[lineID] = heard
	return &heard, nil
}

// Allow lets Ferry ask on a serial line of a plant for a time, after it has
// listened there; 0 ends that.
func (e *Engine) Allow(lineID string, for_ time.Duration) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	line := e.site.Line(lineID)
	if line == nil {
		return problem.New("gone", "The line is no longer in the site.", "Reload to see what changed.").At(lineID)
	}
	if _, ok := e.heard[lineID]; !ok && for_ > 0 {
		return problem.New("listen-first", "Nobody has listened to "+line.Name+" yet.",
			"Listen for some seconds first, so that it is known who else asks there.").At(line.Name)
	}
	e.told[lineID] = time.Now().Add(for_)
	if for_ <= 0 {
		e.forbid(lineID)
	}
	return nil
}

// AllowAll lets Ferry ask on all serial lines of the site for as long as it runs. It
// is for a Ferry without windows, whose command line says so.
func (e *Engine) AllowAll() {
	e.mu.Lock()
	defer e.mu.Unlock()
	for i := range e.site.Lines {
		if e.site.Lines[i].Medium == site.SerialLine {
			e.told[e.site.Lines[i].ID] = time.Now().AddDate(100, 0, 0)
		}
	}
}

// forbid ends what asks on a line. The lock is held.
func (e *Engine) forbid(lineID string) {
	for id := range e.want {
		if link := e.site.Link(id); link != nil && link.Line == lineID {
			e.halt(id)
			delete(e.want, id)
		}
	}
	e.carry()
}
