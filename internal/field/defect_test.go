package field

import (
	"context"
	"strings"
	"testing"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/modbus"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// faulty is a driver whose connections panic on what they are asked.
type faulty struct{ Driver }

type faultyConn struct{ Conn }

func (faulty) Dial(context.Context, Target) (Conn, Reply) {
	return faultyConn{}, Reply{Outcome: exchange.Answered}
}

func (faultyConn) Toward(protocol.Settings)                  {}
func (faultyConn) Usable() bool                              { return true }
func (faultyConn) Break()                                    {}
func (faultyConn) Close() error                              { return nil }
func (faultyConn) Read([]block.Range) Reply                  { panic("an answer that nobody checked") }
func (faultyConn) Write(address.Address, []byte, Pass) Reply { panic("an answer that nobody checked") }
func (faultyConn) Identify() (string, string, Reply)         { panic("an answer that nobody checked") }
func (faultyConn) Last() (request, answer []byte)            { return []byte{1}, []byte{2} }

// TestDefectIsNoVerdict: a defect in the handling of one device costs its own
// connection, is on record with the octets, and passes for no result.
func TestDefectIsNoVerdict(t *testing.T) {
	hub := NewHub()
	r := &runner{link: &site.Link{ID: "k"}, device: &site.Device{ID: "d", Name: "Odd device"}, def: family.TCP,
		hub: hub, era: hub.Era(), tries: 1}
	c := newChannel(context.Background(), faulty{}, Target{Dial: "here"})
	c.add(r)
	if err := c.alone(context.Background(), r,
		func(_ *runner, conn Conn, _ Reply) { Ask(conn, nil) }); err != errDefect {
		t.Errorf("a read that failed gives %v", err)
	}
	list := hub.Exchanges(0, 9)
	if len(list) != 1 || list[0].Outcome == exchange.Answered || !strings.Contains(list[0].Sentence, "defect") ||
		len(list[0].Frames) != 2 {
		t.Errorf("on record: %+v", list)
	}
	running := newChannel(context.Background(), faulty{}, Target{Dial: "here"})
	running.add(&runner{link: r.link, device: r.device, def: r.def, hub: hub, era: r.era})
	running.start()
	for range 2 { // the loop goes on
		if err := running.between(context.Background(), r, func(_ *runner, conn Conn, _ Reply) {
			if conn != nil {
				identify(conn)
			}
		}); err != nil && err != errDefect {
			t.Errorf("a question that failed gives %v", err)
		}
	}
	running.end()
	<-running.done
}
