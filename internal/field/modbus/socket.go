package modbus

import (
	"context"
	"errors"
	"io"
	"net"
	"sync/atomic"
	"syscall"
	"time"

	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
	"ferry/internal/field"
)

// socket is a TCP connection that is opened anew where the far end has ended it
// between two questions, as many devices do after each answer, or after a while
// in which nothing was asked.
type socket struct {
	ctx    context.Context
	open   func() (net.Conn, error)
	now    atomic.Pointer[net.Conn]
	stop   func() bool
	manner exchange.Manner
	// answers counts those since it was opened, last is when the last came, and
	// curt how often in a row it was ended behind a single one.
	answers int
	last    time.Time
	curt    int
	// atOnce is set where the last connection that was looked at in the quiet behind its
	// first answer had been ended already.
	atOnce atomic.Bool
}

// soonAfter is how long after an answer a far end has ended the connection that ends it
// after each.
const soonAfter = 150 * time.Millisecond

// idle is after how long without an answer it is worth a look whether the far
// end is still there.
const idle = 40 * time.Millisecond

// dozing is the shortest quiet time after which a connection is ended because
// of it.
const dozing = time.Second

// dial opens a TCP connection. Connecting may take longer than answering: a
// lost first segment is sent again only after a second.
func dial(ctx context.Context, t field.Target, def *protocol.Def) (*socket, error) {
	limit := time.Duration(def.Int(t.Settings, "timeoutMs")) * time.Millisecond
	dialer := net.Dialer{Timeout: max(limit, 1500*time.Millisecond), Control: t.Control}
	s := &socket{ctx: ctx, stop: func() bool { return true },
		open: func() (net.Conn, error) { return dialer.DialContext(ctx, "tcp", t.Dial) }}
	return s, s.reopen()
}

func (s *socket) reopen() error {
	if s.now.Load() != nil {
		s.stop()
		_ = s.conn().Close() // the far end has ended it already
	}
	c, err := s.open()
	if errors.Is(err, syscall.ECONNREFUSED) && s.now.Load() != nil {
		// A device of one connection may need a moment to have it free again.
		select {
		case <-time.After(150 * time.Millisecond):
			c, err = s.open()
		case <-s.ctx.Done():
		}
	}
	if err != nil {
		return err
	}
	s.now.Store(&c)
	s.answers, s.last = 0, time.Now()
	s.stop = context.AfterFunc(s.ctx, func() { _ = c.SetDeadline(time.Unix(1, 0)) })
	return nil
}

func (s *socket) conn() net.Conn { return *s.now.Load() }

func (s *socket) Close() error {
	s.stop()
	return s.conn().Close()
}

// answered notes that an answer came.
func (s *socket) answered(at time.Time) {
	s.answers++
	s.last = at
	if s.answers > 1 {
		s.curt = 0
		s.manner &^= exchange.HangsUp
	} else if s.curt > 0 {
		c := s.conn()
		time.AfterFunc(soonAfter, func() { s.atOnce.Store(hungUp(c)) })
	}
}

// ready makes sure that the far end is there, as far as can be told without
// asking: a connection that it has ended is opened anew. anew is set where it
// was.
func (s *socket) ready() (anew bool, err error) {
	if s.answers == 0 || s.manner&exchange.HangsUp == 0 && time.Since(s.last) < idle || !hungUp(s.conn()) {
		return false, nil
	}
	s.ended()
	return true, s.reopen()
}

// ended notes that the far end has ended the connection between two questions.
func (s *socket) ended() {
	switch quiet := time.Since(s.last); {
	case s.answers == 1:
		if s.curt++; s.curt <= 1 {
			return
		}
		if quiet < soonAfter || s.atOnce.Load() {
			s.manner = s.manner&^exchange.Dozes | exchange.HangsUp
		} else {
			s.manner = s.manner&^exchange.HangsUp | exchange.Dozes
		}
	case s.answers > 1 && quiet >= dozing:
		s.manner |= exchange.Dozes
	}
}

// again reports whether a question that failed may be asked once more over a
// new connection: the far end had ended this one behind its last answer, or in
// the quiet since, and the question went to nobody.
func (s *socket) again(err error) bool {
	if s.answers != 1 && (s.answers == 0 || time.Since(s.last) < dozing) || s.ctx.Err() != nil ||
		!(errors.Is(err, io.EOF) || errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE)) {
		return false
	}
	s.ended()
	return s.reopen() == nil
}
