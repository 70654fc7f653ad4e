package field

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/netip"
	"runtime/debug"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"ferry/internal/core/protocol"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
)

// Post is a place at which Ferry answers: for one device, or for several that
// are told apart by their stations. It is an address and port, or a serial port.
type Post struct {
	Listen string
	format *serial.Format // of a serial port; nil for an address
	def    *protocol.Def
	speaks Driver // an Answerer, or one that has its connections whole
	ctx    context.Context
	end    context.CancelFunc
	done   chan struct{}

	mu       sync.RWMutex
	ends     map[int]*Served // by station; 0 where the protocol has none
	serving  site.Serving    // who is let in: the rules of all that answer here together
	clients  map[*Client]net.Conn
	askers   map[netip.AddrPort]*Client // those of them who ask by datagrams
	away     int                        // clients turned away, or hung up on
	lastAway string                     // and who the last was, and why
	logged   time.Time                  // when the log was told of one
	failed   string                     // why it does not listen
	sharing  sync.Mutex
	shared   any                          // by all clients; nil before the first
	rivals   map[int]map[string]time.Time // who else says that it has a station, and when last
	kept     func(kind protocol.Kind, name string) ([]byte, error)
	// strangers are certificates of clients that are not trusted, in DER, the latest last.
	strangers [][]byte
}

// Shared returns what all clients of the post have in common. It is made for the first,
// and ended with the post.
func (p *Post) Shared(make func() (shared any, end func(), err error)) (any, error) {
	p.sharing.Lock() // not the other lock: what is made may look at the post
	defer p.sharing.Unlock()
	if p.shared == nil && p.ctx.Err() == nil {
		shared, end, err := make()
		if err != nil {
			return nil, err
		}
		p.shared = shared
		context.AfterFunc(p.ctx, end)
	}
	return p.shared, p.ctx.Err()
}

// HaveWhole answers a client of a post over a connection that it has whole: by what all clients of the post
// share, which begin makes for the first.
func HaveWhole[S interface{ Take(conn net.Conn) }](p *Post, conn net.Conn,
	begin func() (shared S, end func(), err error)) error {
	shared, err := p.Shared(func() (any, func(), error) { return begin() })
	if err != nil {
		return err
	}
	s, ok := shared.(S)
	if !ok {
		return errors.New("the post answers in another protocol")
	}
	s.Take(conn)
	return nil
}

// ClientOf is who asks over a connection; nil for nobody who is there still.
func (p *Post) ClientOf(conn net.Conn) *Client {
	p.mu.RLock()
	defer p.mu.RUnlock()
	for c, over := range p.clients {
		if over == conn && conn != nil {
			return c
		}
	}
	return nil
}

// Secret is a secret or a file that settings of the post name.
func (p *Post) Secret(settings protocol.Settings, key string) ([]byte, error) {
	t := Target{Settings: settings, Kept: p.kept}
	return t.Secret(p.def, key)
}

// Turn notes that a client is not let in, and why; c is nil for who has gone already.
func (p *Post) Turn(c *Client, why string) {
	if c == nil {
		return
	}
	c.Refuse()
	p.mu.Lock()
	defer p.mu.Unlock()
	if now := time.Now(); now.Sub(p.logged) >= time.Second { // whoever comes again and again fills no log
		p.logged = now
		log.Printf("answering at %s: %s %s", p.Listen, c.From, why)
	}
	p.turned(c, why)
}

// mostStrangers is how many certificates are remembered that clients were refused for.
const mostStrangers = 20

// Stranger remembers the certificate of a client that is not trusted, in DER.
func (p *Post) Stranger(certificate []byte) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.strangers = slices.DeleteFunc(p.strangers, func(c []byte) bool { return bytes.Equal(c, certificate) })
	p.strangers = append(p.strangers[max(0, len(p.strangers)-mostStrangers+1):], slices.Clone(certificate))
}

// Befriended forgets a certificate that is trusted by now.
func (p *Post) Befriended(certificate []byte) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.strangers = slices.DeleteFunc(p.strangers, func(c []byte) bool { return bytes.Equal(c, certificate) })
}

// End returns the device with a station that answers here; nil for none.
func (p *Post) End(station int) *Served {
	p.mu.RLock()
	defer p.mu.RUnlock()
	return p.ends[station]
}

// Client is somebody who asks at a post.
type Client struct {
	From  string // address and port
	Since time.Time

	asked, refused, wrote atomic.Int64
	last                  atomic.Int64 // in milliseconds since 1970
}

// Asked counts a request.
func (c *Client) Asked() {
	c.asked.Add(1)
	c.last.Store(time.Now().UnixMilli())
}

// Refuse counts a request that was answered with an error.
func (c *Client) Refuse() { c.refused.Add(1) }

// ClientState is a Client as it is shown.
type ClientState struct {
	From    string `json:"from"`
	SinceMs int64  `json:"sinceMs"`
	Asked   int64  `json:"asked"`
	Refused int64  `json:"refused"`
	Wrote   int64  `json:"wrote"`
	LastMs  int64  `json:"lastMs"`
}

// answerPatience is how long a client may take to take in an answer, and to
// finish a request that it has begun.
const answerPatience = 10 * time.Second

// mostRequest bounds the octets of a request.
const mostRequest = 1 << 16

// listen answers until the post ends. A place that cannot be had yet is tried
// again: another program may have it for a while.
func (p *Post) listen() {
	defer close(p.done)
	if p.format != nil {
		p.onLine()
		return
	}
	if answers, ok := p.speaks.(DatagramAnswerer); ok {
		p.onDatagrams(answers)
		return
	}
	for p.ctx.Err() == nil {
		l, err := net.Listen("tcp", p.Listen)
		if err == nil {
			p.fails("")
			p.accept(l)
			continue
		}
		p.fails(notListening(p.Listen, err))
		select {
		case <-p.ctx.Done():
		case <-time.After(2 * time.Second):
		}
	}
}

// Stations lists the stations as which Ferry answers here.
func (p *Post) Stations() (list []int) {
	p.mu.RLock()
	defer p.mu.RUnlock()
	for station := range p.ends {
		list = append(list, station)
	}
	return list
}

// onLine answers at a serial port until the post ends.
func (p *Post) onLine() {
	for p.ctx.Err() == nil {
		c := &Client{From: "the line", Since: time.Now()}
		p.mu.Lock()
		p.clients[c], p.failed = nil, ""
		p.mu.Unlock()
		err := p.answerLine(c)
		p.mu.Lock()
		delete(p.clients, c)
		p.mu.Unlock()
		if p.ctx.Err() != nil {
			return
		}
		if err != nil {
			p.fails("Ferry cannot answer on " + p.Listen + ": " + err.Error() + ".")
		}
		select {
		case <-p.ctx.Done():
		case <-time.After(2 * time.Second):
		}
	}
}

func (p *Post) answerLine(c *Client) (err error) {
	defer func() {
		if defect := recover(); defect != nil {
			log.Printf("answering on %s: %v\n%s", p.Listen, defect, debug.Stack())
			err = fmt.Errorf("a defect of Ferry's own: %v", defect)
		}
	}()
	return p.speaks.(LineAnswerer).AnswerLine(p.ctx, p.Listen, *p.format, p, c)
}

// notListening says why a place cannot be had.
func notListening(at string, err error) string {
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		return "Another program answers at " + at + " already: end it, or choose another port."
	case errors.Is(err, syscall.EADDRNOTAVAIL):
		return "This machine does not have the address of " + at + ": give it that address, or the device one that " +
			"this machine has."
	case errors.Is(err, syscall.EACCES):
		return "The system does not let Ferry answer at " + at + ": ports below 1024 need a permission of their own."
	}
	return fmt.Sprintf("Ferry cannot answer at %s: %v.", at, err)
}

func (p *Post) fails(why string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.failed = why
}

func (p *Post) accept(l net.Listener) {
	stop := context.AfterFunc(p.ctx, func() { _ = l.Close() })
	defer stop()
	var talks sync.WaitGroup
	defer talks.Wait()
	defer p.hangUp()
	for {
		conn, err := l.Accept()
		if err != nil {
			if p.ctx.Err() != nil {
				return
			}
			if errors.Is(err, net.ErrClosed) {
				return
			}
			time.Sleep(20 * time.Millisecond) // out of file handles, most likely: those who are there go on
			continue
		}
		client := &Client{From: conn.RemoteAddr().String(), Since: time.Now()}
		if why := p.admit(client, conn); why != "" {
			_ = conn.Close()
			continue
		}
		talks.Go(func() { p.talk(client, conn) })
	}
}

// admit lets a client in, or says why not.
func (p *Post) admit(c *Client, conn net.Conn) (why string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	at, err := netip.ParseAddrPort(c.From)
	switch {
	case p.ctx.Err() != nil:
		return "it ends"
	case err != nil || !p.serving.Lets(at.Addr()):
		why = "is in no line of the list of clients"
	case len(p.clients) >= p.serving.Clients():
		why = fmt.Sprintf("came when %d were there already", len(p.clients))
	}
	if why != "" {
		p.turned(c, why)
		return why
	}
	p.clients[c] = conn
	return ""
}

// turned notes that a client was turned away, or hung up on. The lock is held.
func (p *Post) turned(c *Client, why string) {
	p.away++
	p.lastAway = c.From + " " + why
}

// hangUp ends all connections.
func (p *Post) hangUp() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, conn := range p.clients {
		if conn != nil {
			_ = conn.Close()
		}
	}
}

// talk answers one client until it leaves.
func (p *Post) talk(c *Client, conn net.Conn) {
	defer func() {
		if defect := recover(); defect != nil {
			log.Printf("answering %s at %s: %v\n%s", c.From, p.Listen, defect, debug.Stack())
		}
		p.mu.Lock()
		delete(p.clients, c)
		p.mu.Unlock()
		_ = conn.Close() // the far end may have gone already
	}()
	var err error
	if whole, ok := p.speaks.(WholeAnswerer); ok {
		err = whole.Have(p, c, conn)
	} else {
		err = answerAll(conn, p.speaks.(Answerer).Speech(p, c), c)
	}
	if err == nil || errors.Is(err, io.EOF) || errors.Is(err, net.ErrClosed) || errors.Is(err, syscall.ECONNRESET) {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.turned(c, "was hung up on: "+err.Error())
}

func answerAll(conn net.Conn, speech Speech, c *Client) error {
	var came, out []byte
	for {
		size, err := speech.Length(came)
		if err != nil {
			return err
		}
		if size > 0 {
			out = speech.Answer(out, came[:size])
			came = came[:copy(came, came[size:])]
			c.Asked()
			if len(came) > 0 && len(out) < mostRequest {
				if next, err := speech.Length(came); err == nil && next > 0 {
					continue // it has asked more already: the answers go together
				}
			}
			if len(out) > 0 {
				if err := conn.SetWriteDeadline(time.Now().Add(answerPatience)); err != nil {
					return err
				}
				if _, err := conn.Write(out); err != nil {
					return err
				}
				out = out[:0]
			}
			continue
		}
		if len(came) >= mostRequest {
			return fmt.Errorf("it sent %d octets that are no request", len(came))
		}
		until := time.Time{}
		if len(came) > 0 {
			until = time.Now().Add(answerPatience)
		}
		if err := conn.SetReadDeadline(until); err != nil {
			return err
		}
		came = slices.Grow(came, 1024)
		n, err := conn.Read(came[len(came):cap(came)])
		if err != nil {
			return err
		}
		came = came[:len(came)+n]
	}
}
