package field

import (
	"context"
	"fmt"
	"slices"
	"time"

	"ferry/internal/core/address"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
)

// lookedAtOnce is how many places are looked for between two reads of the timetable.
const lookedAtOnce = 500

// Look asks the device of a link for places by their names, which may not be there.
func (e *Engine) Look(ctx context.Context, linkID string, list []address.Address) ([]protocol.Looked, error) {
	looked := make([]protocol.Looked, 0, len(list))
	for some := range slices.Chunk(list, lookedAtOnce) {
		var now []protocol.Looked
		var reply Reply
		looks := true
		err := e.with(ctx, linkID, func(r *runner, conn Conn, lost Reply) {
			if conn == nil {
				reply = lost
				return
			}
			var looker Looker
			if looker, looks = conn.(Looker); !looks {
				return
			}
			began := time.Now()
			now, reply = looker.Look(some)
			r.hub.record(r.era, r.exchange(fmt.Sprintf("look for %d names", len(some)), &reply, began, time.Since(began)), nil)
		})
		switch {
		case err != nil:
			return nil, err
		case !looks:
			return nil, problem.New("cannot-look", "Its protocol has no question for names that may not be there.",
				"Bring the points in by a table.").At(linkID)
		case !reply.OK() || len(now) != len(some):
			return nil, problem.New("not-looked", fmt.Sprintf("The device does not say what of it is there: %s.",
				reply.Sentence),
				"Try the link: the five stops say how far it answers.").At(linkID)
		}
		looked = append(looked, now...)
	}
	return looked, nil
}

// Browse looks into a folder of the device of a link.
func (e *Engine) Browse(ctx context.Context, linkID string, folder address.Address, from, most int) (f Folder,
	err error) {
	var reply Reply
	browses := true
	err = e.with(ctx, linkID, func(r *runner, conn Conn, lost Reply) {
		if conn == nil {
			reply = lost
			return
		}
		var browser Browser
		if browser, browses = conn.(Browser); !browses {
			return
		}
		began := time.Now()
		f, reply = browser.Browse(folder, from, most)
		r.hub.record(r.era, r.exchange("look into a folder", &reply, began, time.Since(began)), nil)
	})
	switch {
	case err != nil:
	case !browses:
		err = problem.New("cannot-browse", "Its protocol has no folders to look into.", "Bring the points in by a table.").
			At(linkID)
	case !reply.OK():
		err = problem.New("not-browsed", fmt.Sprintf("The device does not let it be looked into: %s.", reply.Sentence),
			"Try the link: the five stops say how far it answers.").At(linkID)
	}
	return f, err
}
