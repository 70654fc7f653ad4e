package field

import (
	"context"
	"errors"
	"fmt"
	"log"
	"net"
	"net/netip"
	"runtime/debug"
	"sync"
	"time"
)

// DatagramAnswerer is a Driver that answers over datagrams: there are no connections.
type DatagramAnswerer interface {
	// AnswerDatagrams begins to answer at a post. What comes there is given to hear, in its order, until the
	// post ends; then end is called.
	AnswerDatagrams(p *Post, over *Datagrams) (hear func(from netip.AddrPort, b []byte), end func(), err error)
}

// Datagrams are the sockets of a post: one at its address, and others that hear what goes to all of its
// network.
type Datagrams struct {
	main *net.UDPConn
	all  netip.AddrPort // where what goes to all is sent; none where that is not known
}

// Own is the address from which they are sent.
func (d *Datagrams) Own() netip.AddrPort {
	at, _ := d.main.LocalAddr().(*net.UDPAddr)
	if at == nil {
		return netip.AddrPort{}
	}
	return at.AddrPort()
}

// Send sends a datagram, Broadcast one to all of the network. What gets lost gets lost.
func (d *Datagrams) Send(to netip.AddrPort, b []byte) { _, _ = d.main.WriteToUDPAddrPort(b, to) }

// Broadcast is as Send.
func (d *Datagrams) Broadcast(b []byte) {
	if d.all.IsValid() {
		_, _ = d.main.WriteToUDPAddrPort(b, d.all)
	}
}

// mostDatagram bounds a datagram that is taken, forgotten is after how long in quiet who asks is no client any
// more.
const (
	mostDatagram = 1 << 12
	forgotten    = time.Minute
)

// onDatagrams answers until the post ends.
func (p *Post) onDatagrams(answers DatagramAnswerer) {
	for p.ctx.Err() == nil {
		err := p.answerDatagrams(answers)
		if p.ctx.Err() != nil {
			return
		}
		if err != nil {
			p.fails(notListening(p.Listen, err))
		}
		select {
		case <-p.ctx.Done():
		case <-time.After(2 * time.Second):
		}
	}
}

func (p *Post) answerDatagrams(answers DatagramAnswerer) error {
	at, err := net.ResolveUDPAddr("udp4", p.Listen)
	if err != nil {
		return err
	}
	main, err := net.ListenUDP("udp4", at)
	if err != nil {
		return err
	}
	over := &Datagrams{main: main}
	sockets := []*net.UDPConn{main}
	if to, ok := toAllFrom(at.AddrPort().Addr().Unmap()); ok {
		over.all = netip.AddrPortFrom(to, uint16(at.Port))
		// A socket at an address of its own hears nothing that goes to all, on most systems; where another
		// socket cannot hear it either, only who asks this address is answered.
		for _, addr := range []netip.Addr{to, netip.AddrFrom4([4]byte{255, 255, 255, 255})} {
			if c, err := net.ListenUDP("udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(addr, uint16(at.Port)))); err == nil {
				sockets = append(sockets, c)
			}
		}
	}
	closes := func() {
		for _, c := range sockets {
			_ = c.Close() // nothing waits in it that could be lost
		}
	}
	hear, end, err := answers.AnswerDatagrams(p, over)
	if err != nil {
		closes()
		return err
	}
	defer end()
	p.fails("")
	stop := context.AfterFunc(p.ctx, closes)
	defer stop()
	var turns sync.Mutex
	var readers sync.WaitGroup
	for _, c := range sockets {
		readers.Go(func() {
			p.readDatagrams(c, func(from netip.AddrPort, b []byte) {
				turns.Lock()
				defer turns.Unlock()
				hear(from, b)
			})
		})
	}
	readers.Wait()
	return nil
}

// toAllFrom is the address to all of the network in which this machine has an address.
func toAllFrom(own netip.Addr) (netip.Addr, bool) {
	list, err := net.InterfaceAddrs()
	if err != nil {
		return netip.Addr{}, false
	}
	for _, each := range list {
		network, ok := each.(*net.IPNet)
		if !ok {
			continue
		}
		addr, ok := netip.AddrFromSlice(network.IP)
		ones, bits := network.Mask.Size()
		inside := netip.PrefixFrom(addr.Unmap(), ones)
		if !ok || bits != 32 || ones >= 31 || addr.Unmap() != own && !(own.IsLoopback() && inside.Contains(own)) {
			continue
		}
		octets := own.As4()
		for bit := ones; bit < bits; bit++ {
			octets[bit/8] |= 0x80 >> (bit % 8)
		}
		return netip.AddrFrom4(octets), true
	}
	return netip.Addr{}, false
}

// readDatagrams takes what comes to a socket until that is closed.
func (p *Post) readDatagrams(c *net.UDPConn, hear func(netip.AddrPort, []byte)) {
	buf := make([]byte, mostDatagram)
	for {
		n, from, err := c.ReadFromUDPAddrPort(buf)
		if errors.Is(err, net.ErrClosed) || p.ctx.Err() != nil {
			return
		}
		if err != nil {
			time.Sleep(time.Millisecond) // an answer of the network to what was sent before
			continue
		}
		from = netip.AddrPortFrom(from.Addr().Unmap(), from.Port())
		if p.lets(from) {
			p.guard(from, func() { hear(from, buf[:n]) })
		}
	}
}

// guard runs what takes a datagram; a defect in it costs that alone.
func (p *Post) guard(from netip.AddrPort, hear func()) {
	defer func() {
		if defect := recover(); defect != nil {
			log.Printf("answering %s at %s: %v\n%s", from, p.Listen, defect, debug.Stack())
		}
	}()
	hear()
}

// lets reports whether somebody at an address is heard at all.
func (p *Post) lets(from netip.AddrPort) bool {
	p.mu.RLock()
	lets := p.serving.Lets(from.Addr())
	p.mu.RUnlock()
	if !lets {
		p.mu.Lock()
		p.turned(&Client{From: from.String()}, "is in no line of the list of clients")
		p.mu.Unlock()
	}
	return lets
}

// Asker returns who asks from an address by datagrams; nil where there are as many others already as are served.
func (p *Post) Asker(from netip.AddrPort) *Client {
	p.mu.Lock()
	defer p.mu.Unlock()
	if c := p.askers[from]; c != nil {
		return c
	}
	if len(p.askers) >= p.serving.Clients() {
		now := time.Now().UnixMilli()
		for at, c := range p.askers {
			if now-c.last.Load() > forgotten.Milliseconds() {
				delete(p.askers, at)
				delete(p.clients, c)
			}
		}
	}
	c := &Client{From: from.String(), Since: time.Now()}
	if len(p.askers) >= p.serving.Clients() {
		p.turned(c, fmt.Sprintf("came when %d were there already", len(p.askers)))
		return nil
	}
	if p.askers == nil {
		p.askers = map[netip.AddrPort]*Client{}
	}
	p.askers[from], p.clients[c] = c, nil
	return c
}

// AskerAt is who asked from an address; nil for nobody.
func (p *Post) AskerAt(from netip.AddrPort) *Client {
	p.mu.RLock()
	defer p.mu.RUnlock()
	return p.askers[from]
}
