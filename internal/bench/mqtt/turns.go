package mqtt

import (
	"net"
	"sync"
	"sync/atomic"
)

// inTurn is the connection of a client whose packets the broker takes in turn with those of
// others: it has the turn from when octets have come until it reads again. The library reads
// and writes what is retained from several at once otherwise.
type inTurn struct {
	net.Conn
	turn *sync.Mutex
	has  atomic.Bool
}

func (c *inTurn) Read(b []byte) (int, error) {
	c.leave()
	n, err := c.Conn.Read(b)
	if n > 0 {
		c.turn.Lock()
		c.has.Store(true)
	}
	return n, err
}

func (c *inTurn) leave() {
	if c.has.Swap(false) {
		c.turn.Unlock()
	}
}

func (c *inTurn) Close() error {
	c.leave()
	return c.Conn.Close()
}
