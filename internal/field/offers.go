package field

import (
	"context"

	"ferry/internal/core/problem"
)

// Offers asks the answering end of a link in which ways it lets somebody in.
func (e *Engine) Offers(ctx context.Context, linkID string) (Offered, error) {
	e.mu.Lock()
	link := e.site.Link(linkID)
	if link == nil {
		e.mu.Unlock()
		return Offered{}, problem.New("gone", "The link is no longer in the site.", "Reload to see what changed.").At(linkID)
	}
	target, _, err := e.targetOf(link)
	e.mu.Unlock()
	if err != nil {
		return Offered{}, err
	}
	driver, _, err := DriverOf(link.Protocol)
	asks, ok := driver.(Offerer)
	if err != nil || !ok {
		return Offered{}, problem.New("no-offers", "Its protocol has no question for the ways in.",
			"Set the link as its device says.").At(linkID)
	}
	target.Settings = link.Settings
	offered, reply := asks.Offers(ctx, target)
	if !reply.OK() {
		return Offered{}, problem.New("not-offered", "The device does not say how it lets somebody in: "+reply.Sentence+".",
			"Try the link: the five stops say how far it answers.").At(linkID)
	}
	return offered, nil
}
