package field

import (
	"context"
	"fmt"

	"ferry/internal/core/address"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// once dials a device that belongs to no site, does one thing with the connection and hangs up.
func once[T any](ctx context.Context, link *site.Link, target Target, what string, do func(T) error) error {
	driver, _, err := DriverOf(link.Protocol)
	if err != nil {
		return err
	}
	target.Settings = link.Settings
	conn, reply := driver.Dial(ctx, target)
	if conn == nil {
		return fmt.Errorf("%s", reply.Sentence)
	}
	defer func() { _ = conn.Close() }() // nothing depends on how it ends
	able, ok := conn.(T)
	if !ok {
		return fmt.Errorf("its protocol has no question %s", what)
	}
	return do(able)
}

// LookAt asks a device that belongs to no site for places by their names.
func LookAt(ctx context.Context, link *site.Link, target Target, list []address.Address) (looked []protocol.Looked,
	err error) {
	err = once(ctx, link, target, "for names that may not be there", func(l Looker) error {
		var reply Reply
		if looked, reply = l.Look(list); !reply.OK() {
			return fmt.Errorf("the device does not say what of it is there: %s", reply.Sentence)
		}
		return nil
	})
	return looked, err
}

// ListAll asks a device that belongs to no site which places it has; each is told page by page. more
// says that there are others.
func ListAll(ctx context.Context, link *site.Link, target Target, each func([]protocol.Held)) (more bool, err error) {
	err = once(ctx, link, target, "for what a device has", func(l Lister) error {
		list := listing{asked: map[string]bool{}}
		for !list.done {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			page, next, reply := l.List(list.after)
			if !reply.OK() {
				return fmt.Errorf("the device does not list what it has: %s", reply.Sentence)
			}
			each(page)
			list.take(page, next)
		}
		if more = list.more; list.wrong {
			return fmt.Errorf("the list of the device has no end: it begins anew")
		}
		return nil
	})
	return more, err
}
