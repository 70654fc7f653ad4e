// Package serial is the asynchronous serial line: what a character costs in
// time, what a receiver makes of a sender that is set otherwise, and what
// wires, ports and terminators bear.
package serial

import (
	"fmt"
	"strconv"
	"strings"
)

// Parity is the parity of a character.
type Parity string

// The parities that the trade uses.
const (
	None Parity = "none"
	Even Parity = "even"
	Odd  Parity = "odd"
)

func (p Parity) letter() string {
	switch p {
	case Even:
		return "E"
	case Odd:
		return "O"
	}
	return "N"
}

// Format is how characters travel: start bit, Data bits with the lowest first,
// parity bit unless None, Stop bits, at Baud bits a second.
type Format struct {
	Baud   int    `json:"baud" jsonschema:"minimum=50,maximum=4000000"`
	Data   int    `json:"data" jsonschema:"minimum=7,maximum=8"`
	Parity Parity `json:"parity" jsonschema:"enum=none,enum=even,enum=odd"`
	Stop   int    `json:"stop" jsonschema:"minimum=1,maximum=2"`
}

// Usual is what a line is taken to be set to: 19 200 baud, even parity.
var Usual = Format{Baud: 19200, Data: 8, Parity: Even, Stop: 1}

// Check reports what is impossible in a format.
func (f Format) Check() error {
	switch {
	case f.Baud < 50 || f.Baud > 4_000_000:
		return fmt.Errorf("%d baud: give 50 to 4 000 000", f.Baud)
	case f.Data != 7 && f.Data != 8:
		return fmt.Errorf("%d data bits: give 7 or 8", f.Data)
	case f.Parity != None && f.Parity != Even && f.Parity != Odd:
		return fmt.Errorf("parity %q: give none, even or odd", f.Parity)
	case f.Stop != 1 && f.Stop != 2:
		return fmt.Errorf("%d stop bits: give 1 or 2", f.Stop)
	}
	return nil
}

// Frame prints data bits, parity and stop bits as the trade does: "8E1".
func (f Format) Frame() string { return fmt.Sprintf("%d%s%d", f.Data, f.Parity.letter(), f.Stop) }

func (f Format) String() string { return fmt.Sprintf("%d %s", f.Baud, f.Frame()) }

// ParseFrame reads "8E1", or one letter for the parity alone, into f.
func (f Format) ParseFrame(text string) (Format, error) {
	t := strings.ToUpper(strings.TrimSpace(text))
	parity, ok := map[byte]Parity{'N': None, 'E': Even, 'O': Odd}, false
	switch len(t) {
	case 1:
		f.Parity, ok = parity[t[0]]
	case 3:
		f.Data, f.Stop = int(t[0]-'0'), int(t[2]-'0')
		f.Parity, ok = parity[t[1]]
	}
	if !ok || f.Check() != nil {
		return f, fmt.Errorf("%q is not a character format such as 8E1, 8N2 or 7O1", text)
	}
	return f, nil
}

// ParseFormat reads "19200:8E1"; what follows the colon may be missing.
func ParseFormat(text string) (Format, error) {
	baud, frame, framed := strings.Cut(text, ":")
	f := Usual
	n, err := strconv.Atoi(strings.ReplaceAll(strings.TrimSpace(baud), " ", ""))
	if err != nil {
		return f, fmt.Errorf("%q is not a baud rate", baud)
	}
	f.Baud = n
	if framed {
		return f.ParseFrame(frame)
	}
	return f, f.Check()
}

// Bits is the length of one character in bits, 9 to 12.
func (f Format) Bits() int {
	bits := 1 + f.Data + f.Stop
	if f.Parity != None {
		bits++
	}
	return bits
}

// CharMs is the time of one character in milliseconds.
func (f Format) CharMs() float64 { return 1000 * float64(f.Bits()) / float64(f.Baud) }

// Bauds are the usual bit rates, the most frequent first.
func Bauds() []int { return []int{9600, 19200, 38400, 115200, 57600, 4800, 2400, 1200} }

// UsualFormats lists the formats that are worth trying on a line of unknown
// settings, the most frequent first.
func UsualFormats() []Format {
	var all []Format
	for _, baud := range Bauds() {
		all = append(all, Format{baud, 8, Even, 1}, Format{baud, 8, None, 1}, Format{baud, 8, None, 2},
			Format{baud, 8, Odd, 1})
	}
	return all
}
