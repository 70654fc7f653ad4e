package field

import (
	"context"
	"reflect"

	"ferry/internal/core/problem"
)

// with gives fn the connection of a link: that of its runner, or of another
// that shares its channel, between two reads; or one of its own if nothing
// there runs. When ctx or the mode ends, what is under way is broken off.
func (e *Engine) with(ctx context.Context, linkID string, fn func(*runner, Conn, Reply)) error {
	e.mu.Lock()
	if e.planOf != e.site && e.runners[linkID] == nil { // what it asks for is still being worked out
		e.mu.Unlock()
		e.Planned(ctx)
		e.mu.Lock()
	}
	if e.site.Link(linkID) == nil {
		e.mu.Unlock()
		return problem.New("gone", "The link is no longer in the site.", "Reload to see what changed.").At(linkID)
	}
	if r := e.runners[linkID]; r != nil && reflect.DeepEqual(*r.link, *e.site.Link(linkID)) {
		c := r.channel
		e.mu.Unlock()
		return c.between(ctx, r, fn)
	}
	r, target, key, err := e.runnerOf(linkID)
	if err != nil {
		e.mu.Unlock()
		return err
	}
	over := e.channels[key]
	var own *channel
	if over == nil {
		own = e.channelTo(r, target)
	}
	e.mu.Unlock()
	if own != nil {
		return own.alone(ctx, r, fn)
	}
	return over.between(ctx, r, fn)
}

// alone does one thing over a channel whose loop does not run, and closes it.
func (c *channel) alone(ctx context.Context, r *runner, fn func(*runner, Conn, Reply)) error {
	defer c.end()
	defer c.hangUp()
	defer context.AfterFunc(ctx, c.end)()
	if !c.guarded("command", func() { c.do(c.life, r, func(conn Conn, reply Reply) { fn(r, conn, reply) }) }) {
		return errDefect
	}
	return nil
}

var errDefect = problem.New("defect",
	"Ferry failed on what the device sent: a defect of Ferry's own. What came is in its log.",
	"Try again, and report it with the log.")

// between does one thing over a channel that runs, between two reads.
func (c *channel) between(ctx context.Context, r *runner, fn func(*runner, Conn, Reply)) error {
	var failed bool
	cmd := command{do: func(conn Conn, reply Reply) { fn(r, conn, reply) }, by: r, ctx: ctx, done: make(chan struct{}),
		failed: &failed}
	c.waiting.Add(1)
	defer c.waiting.Add(-1)
	select {
	case c.commands <- cmd:
		<-cmd.done
		if failed {
			return errDefect
		}
		return nil
	case <-c.life.Done():
		return problem.New("stopped", "The run was stopped in between.", "Try again.")
	case <-ctx.Done():
		return problem.New("timeout", "The link was busy for too long.", "Try again when its device answers.")
	}
}
