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

// Held asks the device of a link which places it has, page by page, each between
// two requests of a run. more says that there are others beyond MostHeld.
func (e *Engine) Held(ctx context.Context, linkID string) (held []protocol.Held, more bool, err error) {
	after, empty := "", 0
	asked := map[string]bool{}
	for {
		var page []protocol.Held
		var next string
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
			began := time.Now()
			page, next, reply = lister.List(after)
			r.hub.record(r.era, r.exchange("list what it has", &reply, began, time.Since(began)), nil)
		})
		switch {
		case err != nil:
			return nil, false, err
		case !lists:
			return nil, false, problem.New("cannot-list", "Its protocol has no question for what a device has.",
				"Bring the points in by a table.").At(linkID)
		case !reply.OK():
			return nil, false, problem.New("not-listed", fmt.Sprintf("The device does not list what it has: %s.",
				reply.Sentence), "Try the link: the five stops say how far it answers.").At(linkID)
		}
		held = append(held, page...)
		if empty++; len(page) > 0 {
			empty = 0
		}
		if asked[after] = true; next == "" {
			return held, false, nil
		}
		if len(held) >= MostHeld {
			return held[:MostHeld], true, nil
		}
		if asked[next] || empty > emptyPages {
			return nil, false, problem.New("not-listed", "The list of the device has no end: it begins anew.",
				"Bring the points in by a table, and tell the maker of the device.").At(linkID)
		}
		after = next
	}
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
