package mqtt

import (
	"bytes"
	"fmt"
	"net"
	"slices"
	"sync"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/exchange"
	"ferry/internal/field"
	wire "ferry/internal/wire/mqtt"
)

// mostPacket bounds a packet that a broker may send: the libraries read whole packets,
// of up to 256 MB, before anybody can say no.
const mostPacket = 4 << 20

// Of packets that belong to no exchange yet, mostSaid are remembered, or mostSaidOctets;
// the oldest go first. What confirms messages is told of together, of aBatch at once.
const (
	mostSaid       = 400
	mostSaidOctets = 256 << 10
	aBatch         = 50
)

// mostShown is how much is kept of what is no packet.
const mostShown = 256

// said is a packet that came or went.
type said struct {
	at     time.Time
	out    bool
	octets []byte
}

// watched is a connection whose packets are kept for the record as they come and go, and
// over which none comes that is too long. What passwords it holds is starred out.
type watched struct {
	net.Conn

	// aside is told of what went over the connection besides questions and messages; nil
	// for nobody. It is called from whoever reads or writes.
	aside func(operation string, packets []said)

	mu     sync.Mutex
	coming capture.Frames
	going  capture.Frames
	spent  bool   // what comes is no packet
	any    bool   // a whole packet came
	failed error  // why nothing more could be read
	held   []said // and belongs to no exchange yet
	octets int
	told   [][]byte // messages, until they are handed over
}

func (w *watched) Read(b []byte) (int, error) {
	if w.isSpent() {
		return 0, net.ErrClosed
	}
	n, err := w.Conn.Read(b)
	now := time.Now()
	var wrong error
	tells := false
	w.mu.Lock()
	w.coming.Take(b[:n], func(b []byte) (int, error) { return wire.Frame(b, mostPacket) },
		func(packet []byte) { tells = w.came(now, slices.Clone(packet)) || tells },
		func(octets []byte, err error) {
			wrong, w.spent = err, true
			w.hold(said{now, false, slices.Clone(octets[:min(len(octets), mostShown)])})
		})
	if err != nil {
		w.failed = err
	}
	w.mu.Unlock()
	if tells {
		w.tell()
	}
	if wrong != nil {
		_ = w.Conn.Close() // nothing that follows could be made out
		return 0, fmt.Errorf("what the broker sends is no packet: %w", wrong)
	}
	return n, err
}

// failure is why nothing more could be read; nil for nothing.
func (w *watched) failure() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.failed
}

// isSpent reports whether what came is no packet.
func (w *watched) isSpent() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.spent
}

// torn reports whether nothing came but the beginning of a packet, which it keeps for the
// record.
func (w *watched) torn() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	rest := w.coming.Rest()
	if w.spent || w.any || len(rest) == 0 {
		return w.spent
	}
	w.spent = true
	w.hold(said{time.Now(), false, slices.Clone(rest[:min(len(rest), mostShown)])})
	return true
}

// came takes in a packet, and reports whether it is time to tell what is held. The lock
// is held.
func (w *watched) came(now time.Time, packet []byte) (tells bool) {
	w.any = true
	if wire.Kind(packet) == wire.Publish {
		if len(w.told) >= mostSaid {
			w.told = w.told[1:]
		}
		w.told = append(w.told, packet)
		return len(w.held) > 0 && now.Sub(w.held[0].at) > time.Second
	}
	w.hold(said{now, false, packet})
	return wire.Kind(packet) == wire.Pong
}

// Write keeps what goes before it does: its answer may be here before this has returned.
func (w *watched) Write(b []byte) (int, error) {
	now, batch := time.Now(), false
	w.mu.Lock()
	w.going.Take(b, func(b []byte) (int, error) { return wire.Frame(b, 256<<20) }, func(packet []byte) {
		packet = slices.Clone(packet)
		wire.Mask(packet)
		w.hold(said{now, true, packet})
		batch = len(w.held) >= aBatch && !slices.ContainsFunc(w.held, func(s said) bool { return !confirms(s.octets) })
	}, func([]byte, error) {}) // it is what the library made
	w.mu.Unlock()
	if batch {
		w.tell()
	}
	return w.Conn.Write(b)
}

// hold remembers a packet. The lock is held.
func (w *watched) hold(s said) {
	w.held = append(w.held, s)
	for w.octets += len(s.octets); len(w.held) > 1 && (len(w.held) > mostSaid || w.octets > mostSaidOctets); {
		w.octets -= len(w.held[0].octets)
		w.held = w.held[1:]
	}
}

// take hands over what is held.
func (w *watched) take() []said {
	w.mu.Lock()
	defer w.mu.Unlock()
	held := w.held
	w.held, w.octets = nil, 0
	return held
}

// confirms reports whether a packet confirms a message.
func confirms(packet []byte) bool {
	switch wire.Kind(packet) {
	case wire.PublishAck, wire.PublishReceived, wire.PublishRelease, wire.PublishComplete:
		return true
	}
	return false
}

// tell hands what is held to whoever listens aside, as before a question.
func (w *watched) tell() {
	if w.aside == nil {
		return
	}
	held := w.take()
	if len(held) == 0 {
		return
	}
	confirmed := 0
	topic, life := "", false
	for _, s := range held {
		switch {
		case confirms(s.octets):
			confirmed++
		case topic == "" && s.out:
			topic = wire.Topic(s.octets)
		}
		life = life || wire.Kind(s.octets) == wire.Ping
	}
	operation := fmt.Sprintf("%d packets", len(held))
	switch {
	case topic != "":
		operation = "publish " + topic
	case confirmed == len(held):
		operation = fmt.Sprintf("confirm messages, %d packets", confirmed)
	case life:
		operation = "sign of life"
	}
	w.aside(operation, held)
}

// message hands over the packet in which a payload came, and where in it; without one
// the payload stands for itself.
func (w *watched) message(payload []byte) (packet []byte, at int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for i, packet := range w.told {
		if bytes.HasSuffix(packet, payload) {
			w.told = w.told[i+1:]
			return packet, len(packet) - len(payload)
		}
	}
	return slices.Clone(payload), 0
}

// parted gives the end of a session the packet by which the broker said it.
func (w *watched) parted(reply *field.Reply) {
	w.mu.Lock()
	n := len(w.held)
	var last []said
	if n > 0 && !w.held[n-1].out && wire.Kind(w.held[n-1].octets) == wire.Disconnect {
		last = w.held[n-1:]
		w.held = w.held[:n-1]
	}
	w.mu.Unlock()
	w.tell()
	if frames, at := framed(last); frames != nil {
		reply.Frames, reply.SentAt = frames, at
	}
}

// framed are packets as frames, from the first on.
func framed(packets []said) (frames []exchange.Frame, began time.Time) {
	for i, s := range packets {
		if i == 0 {
			began = s.at
		}
		frames = append(frames, exchange.Frame{Out: s.out, AfterMs: float64(s.at.Sub(began)) / float64(time.Millisecond),
			Octets: s.octets})
	}
	return frames, began
}

// witnessed gives a reply the packets that went over the connection for it.
func (w *watched) witnessed(reply *field.Reply) {
	if frames, began := framed(w.take()); frames != nil {
		reply.Frames, reply.SentAt = frames, began
	}
}

// overheard is a connection of which the first octets are kept for the record: those of
// setting TLS up, where it does not come about.
type overheard struct {
	net.Conn
	mu     sync.Mutex
	over   bool
	said   []said
	octets int
}

// mostOverheard bounds them, in octets.
const mostOverheard = 32 << 10

func (o *overheard) keep(out bool, b []byte) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.octets += len(b); o.over || len(b) == 0 || o.octets > mostOverheard {
		return
	}
	o.said = append(o.said, said{time.Now(), out, slices.Clone(b)})
}

func (o *overheard) Read(b []byte) (int, error) {
	n, err := o.Conn.Read(b)
	o.keep(false, b[:n])
	return n, err
}

func (o *overheard) Write(b []byte) (int, error) {
	o.keep(true, b)
	return o.Conn.Write(b)
}

// enough ends it: TLS has come about.
func (o *overheard) enough() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.over, o.said = true, nil
}

// witnessed gives a reply what was overheard.
func (o *overheard) witnessed(reply *field.Reply) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if frames, began := framed(o.said); frames != nil {
		reply.Frames, reply.SentAt = frames, began
	}
}
