package field

import (
	"context"
	"fmt"
	"time"

	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
)

// MostHeld bounds the places that are taken of one device's list.
const MostHeld = 50_000

// emptyPages is how many pages in a row of a list may hold nothing.
const emptyPages = 100

// listing is a list as it comes, page by page.
type listing struct {
	held  []protocol.Held
	after string
	asked map[string]bool
	empty int // pages in a row that held nothing
	done  bool
	more  bool // there are others beyond MostHeld
	wrong bool // it has no end
}

// take takes in a page.
func (l *listing) take(page []protocol.Held, next string) {
	l.held = append(l.held, page...)
	if l.empty++; len(page) > 0 {
		l.empty = 0
	}
	l.asked[l.after] = true
	switch l.after = next; {
	case next == "":
		l.done = true
	case len(l.held) >= MostHeld:
		l.held, l.more, l.done = l.held[:MostHeld], true, true
	case l.asked[next] || l.empty > emptyPages:
		l.wrong, l.done = true, true
	}
}

// Held asks the device of a link which places it has, page by page, each between
// two requests of a run; a link that does not run is held open for all of them. more says that
// there are others beyond MostHeld.
func (e *Engine) Held(ctx context.Context, linkID string) (held []protocol.Held, more bool, err error) {
	e.mu.Lock()
	runs := e.runners[linkID] != nil
	e.mu.Unlock()
	l := listing{asked: map[string]bool{}}
	for !l.done {
		var reply Reply
		lists := false
		err := e.with(ctx, linkID, func(r *runner, conn Conn, lost Reply) {
			if conn == nil {
				lists, reply = true, lost
				return
			}
			var lister Lister
			if lister, lists = conn.(Lister); !lists {
				return
			}
			for once := true; once || !runs && !l.done && ctx.Err() == nil; once = false {
				began := time.Now()
				var page []protocol.Held
				var next string
				page, next, reply = lister.List(l.after)
				r.hub.record(r.era, r.exchange("list what it has", &reply, began, time.Since(began)), nil)
				if !reply.OK() {
					return
				}
				l.take(page, next)
			}
		})
		switch {
		case err != nil:
			return nil, false, err
		case ctx.Err() != nil:
			return nil, false, problem.New("not-listed", "The device did not get done with its list in time.",
				"Bring the points in by a table.").At(linkID)
		case !lists:
			return nil, false, problem.New("cannot-list", "Its protocol has no question for what a device has.",
				"Bring the points in by a table.").At(linkID)
		case !reply.OK():
			return nil, false, problem.New("not-listed", fmt.Sprintf("The device does not list what it has: %s.",
				reply.Sentence), "Try the link: the five stops say how far it answers.").At(linkID)
		}
	}
	if l.wrong {
		return nil, false, problem.New("not-listed", "The list of the device has no end: it begins anew.",
			"Bring the points in by a table, and tell the maker of the device.").At(linkID)
	}
	return l.held, l.more, nil
}

// Survey asks the device of a link what its answering end is set to, and what it has beside
// that if deep is set.
func (e *Engine) Survey(ctx context.Context, linkID string, deep bool) (told Told, err error) {
	var reply Reply
	can := true
	err = e.with(ctx, linkID, func(r *runner, conn Conn, lost Reply) {
		if conn == nil {
			reply = lost
			return
		}
		var surveyor Surveyor
		if surveyor, can = conn.(Surveyor); !can {
			return
		}
		began := time.Now()
		told, reply = surveyor.Survey(deep)
		r.hub.record(r.era, r.exchange("ask what it is set to", &reply, began, time.Since(began)), nil)
	})
	switch {
	case err != nil:
		return told, err
	case !can:
		return told, problem.New("cannot-ask", "Its protocol has no question for what a device is set to.", "").At(linkID)
	case !reply.OK():
		return told, problem.New("not-told", fmt.Sprintf("The device does not tell what it is set to: %s.", reply.Sentence),
			"Try the link: the five stops say how far it answers.").At(linkID)
	}
	return told, nil
}
