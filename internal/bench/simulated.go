package bench

import (
	"net"
	"time"

	"ferry/internal/core/protocol"
)

// Simulated is a device without its connection: what it knows.
type Simulated struct {
	Def *protocol.Def
	// Settings of the answering end.
	Settings protocol.Settings
	Identity string
	Name     string // as the plan calls it
	// Habits are in which ways its model does less than others, in words of its speech.
	Habits []string
	Think  time.Duration
	Memory *Memory
	// State is what its speech keeps of it.
	State any
}

// Talk is what a stand-in says over one connection.
type Talk interface {
	// Length returns the length of the request at the beginning of what came, 0
	// if more has to come. On an error the stand-in hangs up.
	Length(came []byte) (int, error)
	// Answer answers a whole request, the turn-th that the device got, under a
	// fault; nil for silence. ends has the stand-in hang up behind it.
	Answer(request []byte, fault Fault, turn int) (answer []byte, ends bool)
}

// Pusher is a Talk that sends without being asked for each message.
type Pusher interface {
	// Push returns the octets that are due, none for nothing, and after how long it
	// is to be asked again. It takes turns with Answer.
	Push(now time.Time, fault Fault) (octets []byte, again time.Duration)
}

// Speech is how the stand-ins of one protocol talk.
type Speech interface {
	// Faults are those that only this protocol has.
	Faults() []FaultKind
	// Talk begins a connection to a device. Over a serial line there is none.
	Talk(*Simulated) Talk
}

// Hosted is a Speech whose device is a server of its own: connections are handed over
// to it.
type Hosted interface {
	// Host begins the device; fault says which fault is on.
	Host(of *Simulated, fault func() Fault) (Host, error)
}

// Host is such a device.
type Host interface {
	// Take has a connection until that ends.
	Take(c net.Conn)
	Close() error
}

// Overhears is a Speech for serial lines, on which every device hears all.
type Overhears interface {
	// Hears returns the frame with which a device answers what it hears, nil for
	// silence.
	Hears(s *Simulated, heard []byte, fault Fault) []byte
}

var speeches = map[string]Speech{}

// Register adds the speech of a protocol. Doing so twice is a programming
// error.
func Register(protocol string, s Speech) {
	if _, dup := speeches[protocol]; dup {
		panic("speech registered twice: " + protocol)
	}
	speeches[protocol] = s
}
