package recording

import (
	"io"
	"net/netip"

	"ferry/internal/core/capture"
	"ferry/internal/core/rehearsal"
	"ferry/internal/files"
)

// Passed is one thing that happened between two ends that Ferry stood between.
type Passed struct {
	capture.Piece
	Conn   int
	Opened bool // the connection was taken
	Failed bool // it was not
	Shut   bool // the side closed it
}

// WriteRelayed writes what passed as pcapng: the octets and times are those of the relay,
// the connections around them are made. ends are those of each connection.
func WriteRelayed(to io.Writer, passed []Passed, ends map[int][2]netip.AddrPort) error {
	stage := rehearsal.New()
	conns := map[int]*rehearsal.Conn{}
	shut := map[int]bool{}
	for i, p := range passed {
		if p.At.After(stage.Now) || i == 0 {
			stage.Now = p.At
		}
		if p.Failed {
			continue // who could not be reached has no address here
		}
		c := conns[p.Conn]
		if c == nil {
			of, known := ends[p.Conn]
			if !known {
				continue
			}
			c = stage.DialBetween(of[0], of[1])
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
