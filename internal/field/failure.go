package field

import (
	"errors"
	"io"
	"net"
	"os"
	"syscall"
	"time"

	"ferry/internal/core/exchange"
)

// ErrCalledOff ends a wait by Break.
var ErrCalledOff = errors.New("called off")

// Failure says in words how a connection failed.
func Failure(err error, dialling bool) Reply {
	var forbidden NotDialled
	var name *net.DNSError
	switch {
	case errors.As(err, &forbidden):
		return Reply{Outcome: exchange.NotAllowed, Sentence: forbidden.Error()}
	case errors.Is(err, syscall.ECONNREFUSED):
		return Reply{Outcome: exchange.Refused,
			Sentence: "the connection was refused: the machine is there, but nothing listens on that port"}
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE):
		return Reply{Outcome: exchange.Reset, Sentence: "the far end tore the connection down"}
	case errors.Is(err, io.EOF):
		return Reply{Outcome: exchange.Closed, Sentence: "the far end closed the connection instead of answering"}
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return Reply{Outcome: exchange.Unreached, Sentence: "there is no way to that address from this machine"}
	case errors.As(err, &name) && name.IsTimeout:
		return Reply{Outcome: exchange.NoSuchName,
			Sentence: "the name " + name.Name + " cannot be resolved: no name server answers"}
	case errors.As(err, &name):
		return Reply{Outcome: exchange.NoSuchName,
			Sentence: "the name " + name.Name + " cannot be resolved: no name server knows it (" + name.Err + ")"}
	case dialling:
		return Reply{Outcome: exchange.Unreached, Sentence: "the address gave no answer to the connection attempt"}
	case errors.Is(err, ErrCalledOff):
		return Reply{Outcome: exchange.CalledOff, Sentence: "it was called off before an answer came"}
	case errors.Is(err, os.ErrDeadlineExceeded):
		return Reply{Outcome: exchange.NoAnswer, Sentence: "no answer came in time"}
	}
	return Reply{Outcome: exchange.Closed, Sentence: err.Error()}
}

// Let asks for a pass where one is needed; left must be called once the octets
// have gone. refused says why they may not.
func Let(pass Pass) (left func(), refused *Reply) {
	if pass == nil {
		return func() {}, nil
	}
	left, err := pass()
	if err != nil {
		return nil, &Reply{Outcome: exchange.NotAllowed, Sentence: err.Error()}
	}
	return left, nil
}

// Sending bounds how long octets may take to leave this program: a request fits
// into any buffer that is not blocked.
const Sending = 80 * time.Millisecond
