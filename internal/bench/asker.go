package bench

import (
	"context"
	"net"
	"time"

	"ferry/internal/core/problem"
)

// Asks is a Speech whose stand-ins can be asked by the bench itself, as another program
// would.
type Asks interface {
	// Questions are requests for what a device holds, as whole frames.
	Questions(of *Simulated) [][]byte
}

// The pace at which the bench asks, and how long it waits.
const (
	askEvery  = 500 * time.Millisecond
	askWithin = time.Second
)

// Ask has the bench play the program that asks a device, at an address at which something
// stands between: a relay. It ends when ctx does.
func (b *Bench) Ask(ctx context.Context, device, address string) error {
	b.mu.Lock()
	var of *Simulated
	var asks Asks
	for id, server := range b.servers {
		if d := b.from[id]; d.ID == device {
			if a, ok := server.speech.(Asks); ok {
				of, asks = &server.Simulated, a
			}
		}
	}
	b.mu.Unlock()
	if asks == nil {
		return problem.New("no-asker", "The bench plays nobody that asks this device.", "Ask it by a program of your own.").
			At(device)
	}
	go ask(ctx, address, asks.Questions(of))
	return nil
}

// ask asks over one connection after the other.
func ask(ctx context.Context, address string, questions [][]byte) {
	for ctx.Err() == nil && len(questions) > 0 {
		dialer := net.Dialer{Timeout: askWithin}
		if c, err := dialer.DialContext(ctx, "tcp", address); err == nil {
			stop := context.AfterFunc(ctx, func() { _ = c.Close() })
			askOver(ctx, c, questions)
			stop()
			_ = c.Close()
		}
		pause(ctx, 2*askEvery)
	}
}

// askOver asks over a connection until it ends.
func askOver(ctx context.Context, c net.Conn, questions [][]byte) {
	buf := make([]byte, 4096)
	for n := 0; ctx.Err() == nil; n++ {
		if _, err := c.Write(questions[n%len(questions)]); err != nil {
			return
		}
		if err := c.SetReadDeadline(time.Now().Add(askWithin)); err != nil {
			return
		}
		if _, err := c.Read(buf); err != nil {
			if timeout, ok := err.(net.Error); !ok || !timeout.Timeout() {
				return
			}
		}
		pause(ctx, askEvery)
	}
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}
