package e2e

import (
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"

	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	frames "ferry/internal/wire/modbus"
)

// wire joins two serial ports of this machine, and returns the paths of both ends.
func wire(t *testing.T) (here, there string) {
	t.Helper()
	var far [2]*os.File
	var ends [2]string
	for i := range far {
		master, slave, err := pty.Open()
		if err != nil {
			t.Skipf("this machine has no pseudo-terminals: %v", err)
		}
		t.Cleanup(func() { _, _ = master.Close(), slave.Close() })
		far[i], ends[i] = master, slave.Name()
	}
	for i := range far {
		go func() { _, _ = io.Copy(far[i], far[1-i]) }() // ends with the test
	}
	return ends[0], ends[1]
}

// TestStationOfLine: Ferry is a station of a serial line, which a master of another
// hand reads and writes; what is for other stations is left alone, and the port is
// not asked over meanwhile.
func TestStationOfLine(t *testing.T) {
	t.Parallel()
	registers := filepath.Join(t.TempDir(), "registers")
	peer(t, true, "gcc", "-O1", "-o", registers, "../scripts/peers/registers.c", "-I/usr/include/modbus", "-lmodbus")
	here, there := wire(t)
	format := serial.Format{Baud: 19200, Data: 8, Parity: serial.None, Stop: 1}
	s := site.New("Skerry Point Hatchery")
	s.Lines = []site.Line{{ID: "row", Name: "Tank row A", Medium: site.SerialLine, Here: here,
		Serial: &site.Serial{Standard: serial.TIA485Two, Format: format}}}
	unit := func(n int) []site.Port {
		return []site.Port{{Line: "row", Protocol: "modbus-rtu", Settings: protocol.Numbers(map[string]int{"unit": n})}}
	}
	point := func(id string, at uint32, access site.Access) site.Point {
		return site.Point{ID: id, Name: id, Address: block.At("hr", at), Type: value.TypeUint16, Access: access, PaceMs: 1000}
	}
	s.Devices = []site.Device{{ID: "lss", Name: "Controller", Ports: []site.Port{{Line: "row"}}, Points: []site.Point{}},
		{ID: "gate", Name: "Row gateway", Map: "modbus-rtu", Ports: unit(5), Serving: &site.Serving{},
			Points: []site.Point{point("setpoint", 0, site.ReadWrite), point("shown", 1, site.ReadOnly)}},
		{ID: "probe", Name: "DO probe 13", Map: "modbus-rtu", Ports: unit(13),
			Points: []site.Point{point("o", 0, site.ReadOnly)}}}
	s.Links = []site.Link{{ID: "to-probe", Asking: "lss", Answering: "probe", Line: "row", Protocol: "modbus-rtu",
		Settings: protocol.Numbers(map[string]int{"unit": 13})}}
	s.Crossings = []site.Crossing{{ID: "x", From: "setpoint", To: "shown", Factor: 2}}
	if err := s.Validate(); err != nil {
		t.Fatal(err)
	}
	f := start(t, "serve", t.TempDir())
	f.post(t, "/api/file/site.json", json.RawMessage(mustJSON(t, s)))
	b := f.open(t, "/lines/device/gate")
	b.press("Answer now")
	b.sees("On the bench nobody asks Row gateway")
	f.post(t, "/api/mode", map[string]string{"mode": "plant"})
	b.sees("these are real devices") // which moves what is below it
	b.press("Answer now")
	b.sees("Ferry answers at " + here)
	read := func(unit, at string, fine bool) string { return peer(t, fine, registers, there, unit, "read", at, "1") }
	if got := read("5", "1", false); !strings.Contains(got, "Target device failed") {
		t.Errorf("what has no value yet is %q", got)
	}
	peer(t, true, registers, there, "5", "write", "0", "1450")
	eventually(t, "what was written to go through", func() bool {
		out, err := peerOutput(registers, there, "5", "read", "1", "1")
		return err == nil && out == "2900"
	})
	if got := read("5", "7", false); !strings.Contains(got, "Illegal data address") {
		t.Errorf("beyond the map it is told %q", got)
	}
	if got := read("13", "0", false); !strings.Contains(got, "timed out") {
		t.Errorf("as another station it is told %q", got)
	}
	_, _ = peerOutput(registers, there, "0", "write", "0", "700") // to all: nobody answers
	eventually(t, "what is for all stations to be taken", func() bool { return read("5", "0", true) == "700" })
	octetByOctet(t, there)
	b.to("/lines/link/to-probe")
	b.press("Run it")
	b.sees("Ferry answers at " + here + " itself")
}

// octetByOctet asks the station for registers from 0x0200 on, in a frame that passes for
// an answer until its last octet has come.
func octetByOctet(t *testing.T, there string) {
	t.Helper()
	frame := []byte{5, frames.ReadHoldingRegisters, 2, 0, 0, 0}
	for frame[5] == 0 || frame[5] > 125 {
		frame[3]++
		frame[5] = byte(frames.CRC(frame[:5]))
	}
	frame = frames.RTU.AppendFrame(nil, 0, frame[0], frame[1:]...)
	port, err := os.OpenFile(there, os.O_RDWR|syscall.O_NOCTTY, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer port.Close()
	for i := range frame {
		if _, err := port.Write(frame[i : i+1]); err != nil {
			t.Fatal(err)
		}
		time.Sleep(2 * time.Millisecond)
	}
	var answer []byte
	deadline := time.Now().Add(patience)
	if err := port.SetReadDeadline(deadline); err != nil {
		t.Fatal(err)
	}
	for len(answer) < 5 && time.Now().Before(deadline) {
		in := make([]byte, 16)
		n, err := port.Read(in) // who had the port before may have set it to wait for nothing, which reads as its end
		if answer = append(answer, in[:n]...); err != nil && err != io.EOF {
			t.Fatal(err)
		}
		time.Sleep(5 * time.Millisecond)
	}
	if len(answer) < 5 || answer[1] != frames.ReadHoldingRegisters|0x80 || answer[2] != 2 {
		t.Errorf("% X is answered with % X, want that there are no such registers", frame, answer)
	}
}
