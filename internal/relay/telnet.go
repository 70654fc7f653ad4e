package relay

import (
	"encoding/binary"
	"io"
	"slices"
	"sync"

	"ferry/internal/core/serial"
)

// Telnet commands (RFC 854), options (RFC 856, 858, 1073 and 2217) and the commands of
// the option by which a serial port behind a connection is set (RFC 2217, section 3).
const (
	iac  = 255
	dont = 254
	do   = 253
	wont = 252
	will = 251
	sb   = 250
	se   = 240

	optBinary   = 0
	optSuppress = 3
	optComPort  = 44

	comSignature = 0
	comBaud      = 1
	comData      = 2
	comParity    = 3
	comStop      = 4
	comControl   = 5
	comPurge     = 12
	fromServer   = 100 // is added to the commands of the end that has the port
)

// longestOption bounds a subnegotiation: what is longer is none of serial ports.
const longestOption = 256

// telnet is a stream with the commands of telnet taken out and put in: data octets of
// 255 go twice.
type telnet struct {
	stream
	// server is set where this end has the port.
	server bool
	// set has the port take a format; nil where there is none to be set. It returns what
	// it is set to then.
	set func(serial.Format) serial.Format

	writing sync.Mutex
	mu      sync.Mutex
	format  serial.Format
	told    map[byte]bool // commands that the other end has confirmed
	agreed  map[[2]byte]bool

	state  byte
	option []byte
	raw    [4096]byte
	rest   []byte // data that came before it was read
}

// The states of the reader.
const (
	inData = iota
	afterIAC
	afterVerb // the verb stands in option[0]
	inOption
	inOptionIAC
)

func newTelnet(s stream, server bool, format serial.Format, set func(serial.Format) serial.Format) *telnet {
	return &telnet{stream: s, server: server, format: format, set: set, told: map[byte]bool{},
		agreed: map[[2]byte]bool{}}
}

// Read returns data octets, and sees to commands between them.
func (t *telnet) Read(b []byte) (int, error) {
	if len(t.rest) > 0 {
		n := copy(b, t.rest)
		t.rest = t.rest[n:]
		return n, nil
	}
	for {
		n, err := t.stream.Read(t.raw[:min(len(t.raw), max(1, len(b)))])
		out := t.take(b[:0], t.raw[:n])
		if len(out) > 0 || err != nil {
			return len(out), err
		}
	}
}

// take appends the data of octets that came.
func (t *telnet) take(out, in []byte) []byte {
	for _, c := range in {
		switch t.state {
		case inData:
			if c == iac {
				t.state = afterIAC
			} else {
				out = append(out, c)
			}
		case afterIAC:
			switch {
			case c == iac:
				out, t.state = append(out, c), inData
			case c == sb:
				t.option, t.state = t.option[:0], inOption
			case c >= will:
				t.option, t.state = append(t.option[:0], c), afterVerb
			default:
				t.state = inData // of one octet, and of no concern here
			}
		case afterVerb:
			t.negotiate(t.option[0], c)
			t.state = inData
		case inOption:
			if c == iac {
				t.state = inOptionIAC
			} else if len(t.option) < longestOption {
				t.option = append(t.option, c)
			}
		case inOptionIAC:
			switch {
			case c == iac:
				if len(t.option) < longestOption {
					t.option = append(t.option, c)
				}
				t.state = inOption
			default: // it ends, or is broken off
				t.state = inData
				if c == se && len(t.option) > 1 && t.option[0] == optComPort {
					t.command(t.option[1], t.option[2:])
				}
			}
		}
	}
	return out
}

// negotiate answers an offer or a demand, once.
func (t *telnet) negotiate(verb, option byte) {
	known := option == optBinary || option == optSuppress || option == optComPort
	var answer byte
	switch verb {
	case will:
		if answer = dont; known {
			answer = do
		}
	case do:
		if answer = wont; known {
			answer = will
		}
	default: // a refusal is taken as it is
		return
	}
	t.mu.Lock()
	said := t.agreed[[2]byte{answer, option}]
	t.agreed[[2]byte{answer, option}] = true
	t.mu.Unlock()
	if !said {
		_ = t.send([]byte{iac, answer, option}) // a dead connection shows at the next read
	}
}

// command sees to one of the commands of serial ports.
func (t *telnet) command(code byte, args []byte) {
	if !t.server {
		if code < fromServer {
			return
		}
		t.confirmed(code-fromServer, args)
		return
	}
	t.mu.Lock()
	f := t.format
	t.mu.Unlock()
	was := f
	switch code {
	case comBaud:
		if len(args) == 4 {
			if n := binary.BigEndian.Uint32(args); n != 0 { // 0 asks what it is
				f.Baud = int(min(n, 1<<30))
			}
		}
	case comData:
		if len(args) == 1 && args[0] != 0 {
			f.Data = int(args[0])
		}
	case comParity:
		if len(args) == 1 {
			f.Parity = parityOf(args[0], f.Parity)
		}
	case comStop:
		if len(args) == 1 && (args[0] == 1 || args[0] == 2) {
			f.Stop = int(args[0])
		}
	case comSignature:
		if len(args) == 0 {
			t.say(comSignature, []byte("Ferry"))
		}
		return
	default:
		t.say(code, args) // what it has no say in is as it was wished
		return
	}
	if f != was && f.Check() == nil {
		if t.set != nil {
			f = t.set(f)
		}
		t.mu.Lock()
		t.format = f
		t.mu.Unlock()
	} else {
		f = was
	}
	t.say(code, valueOf(code, f))
}

// confirmed takes in what the other end says that it has set.
func (t *telnet) confirmed(code byte, args []byte) {
	t.mu.Lock()
	switch {
	case code == comBaud && len(args) == 4:
		t.format.Baud = int(min(binary.BigEndian.Uint32(args), 1<<30))
	case code == comData && len(args) == 1:
		t.format.Data = int(args[0])
	case code == comParity && len(args) == 1:
		t.format.Parity = parityOf(args[0], t.format.Parity)
	case code == comStop && len(args) == 1:
		t.format.Stop = int(args[0])
	}
	t.told[code] = true
	t.mu.Unlock()
}

func parityOf(code byte, was serial.Parity) serial.Parity {
	if code < 1 || code > 3 {
		return was
	}
	return [...]serial.Parity{serial.None, serial.Odd, serial.Even}[code-1]
}

// valueOf is a part of a format as the commands carry it.
func valueOf(code byte, f serial.Format) []byte {
	switch code {
	case comBaud:
		return binary.BigEndian.AppendUint32(nil, uint32(f.Baud))
	case comData:
		return []byte{byte(f.Data)}
	case comParity:
		return []byte{byte(1 + slices.Index([]serial.Parity{serial.None, serial.Odd, serial.Even}, f.Parity))}
	}
	return []byte{byte(f.Stop)}
}

// say sends a command of this end.
func (t *telnet) say(code byte, args []byte) {
	if t.server {
		code += fromServer
	}
	out := []byte{iac, sb, optComPort, code}
	out = append(out, doubled(args)...)
	_ = t.send(append(out, iac, se)) // a dead connection shows at the next read
}

// ask sets the port at the other end, and reads until that has said so, or nothing more
// comes: nothing may go over the port before it is set. ok is false where the other end
// does not know the commands; the format is then as it may be.
func (t *telnet) ask(f serial.Format) (is serial.Format, ok bool) {
	var out []byte
	for _, option := range []byte{optBinary, optSuppress, optComPort} {
		t.agreed[[2]byte{will, option}], t.agreed[[2]byte{do, option}] = true, true
		out = append(out, iac, will, option, iac, do, option)
	}
	if t.send(out) != nil {
		return f, false
	}
	for _, code := range []byte{comBaud, comData, comParity, comStop} {
		t.say(code, valueOf(code, f))
	}
	for !ok {
		n, err := t.stream.Read(t.raw[:])
		t.rest = append(t.rest, t.take(nil, t.raw[:n])...)
		ok = t.told[comBaud] && t.told[comData] && t.told[comParity] && t.told[comStop]
		if err != nil || len(t.rest) > len(t.raw) {
			break
		}
	}
	return t.format, ok
}

// Write sends data octets.
func (t *telnet) Write(b []byte) (int, error) {
	if err := t.send(doubled(b)); err != nil {
		return 0, err
	}
	return len(b), nil
}

func (t *telnet) send(b []byte) error {
	t.writing.Lock()
	defer t.writing.Unlock()
	_, err := t.stream.Write(b)
	return err
}

// doubled has each octet of 255 go twice.
func doubled(b []byte) []byte {
	if !slices.Contains(b, iac) {
		return b
	}
	out := make([]byte, 0, len(b)+8)
	for _, c := range b {
		if out = append(out, c); c == iac {
			out = append(out, c)
		}
	}
	return out
}

var _ io.ReadWriteCloser = (*telnet)(nil)
