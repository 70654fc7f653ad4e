package recording

import (
	"io"
	"net/netip"

	"ferry/internal/core/capture"
	"ferry/internal/core/rehearsal"
	"ferry/internal/core/serial"
	"ferry/internal/files"
)

// Passed is one thing that happened between two ends that Ferry stood between.
type Passed struct {
	capture.Piece
	Conn   int
	Opened bool // the connection was taken
	Failed bool // it was not
	Shut   bool // the side closed it
	OneWay bool // nobody knows which side it was
}

// Between says what lay between two ends: nothing for TCP.
type Between struct {
	Datagrams bool
	// Line is the name of a serial line, and Format how it is set.
	Line   string
	Format *serial.Format
}

// WriteRelayed writes what passed as pcapng: the octets and times are those of the relay,
// the connections around them are made. ends are those of each connection.
func WriteRelayed(to io.Writer, passed []Passed, ends map[int][2]netip.AddrPort, of Between) error {
	stage := rehearsal.New()
	conns := map[int]*rehearsal.Conn{}
	shut := map[int]bool{}
	for i, p := range passed {
		if p.At.After(stage.Now) || i == 0 {
			stage.Now = p.At
		}
		between, known := ends[p.Conn]
		if p.Failed || !known {
			continue // who could not be reached has no address here
		}
		if of.Line != "" || of.Datagrams {
			if len(p.Octets) > 0 {
				packet := capture.Packet{Kind: capture.UDP, From: between[p.Side], To: between[p.Side.Other()],
					Payload: p.Octets, Whole: 42 + len(p.Octets)}
				if of.Line != "" {
					packet = capture.Packet{Kind: capture.Serial, Line: of.Line, Format: of.Format, Side: p.Side,
						Payload: p.Octets, OneWay: p.OneWay, Whole: len(p.Octets)}
				}
				stage.Put(packet)
			}
			continue
		}
		c := conns[p.Conn]
		if c == nil {
			c = stage.DialBetween(between[0], between[1])
			conns[p.Conn] = c
		}
		switch {
		case p.Opened:
		case p.Shut:
			if !shut[p.Conn] {
				shut[p.Conn] = true
				c.Close(p.Side)
			}
		default:
			c.Say(p.Side, p.Octets)
		}
	}
	return files.WriteCapture(to, stage.Packets)
}
