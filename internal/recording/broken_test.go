package recording

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/binary"
	"io"
	"runtime"
	"strings"
	"testing"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/rehearsal"
	"ferry/internal/core/serial"
)

// FuzzRead: whatever a file holds, it is read as far as it can be, and judged.
func FuzzRead(f *testing.F) {
	for _, i := range []int{0, 3, 10, 15} {
		zipped := written(f, scenes[i].stage(1))
		unzip, err := gzip.NewReader(bytes.NewReader(zipped))
		if err != nil {
			f.Fatal(err)
		}
		plain, err := io.ReadAll(unzip)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(plain)
		f.Add(zipped[:len(zipped)/2])
	}
	f.Add([]byte("2026-03-02 06:00:00.123456 > 0D 03 00 00 00 0C 45 C3\n[06:00:00.127] RX: 0d8302\n"))
	f.Add([]byte("0.004 tx 0x0D 0x03\n1234 rx \\x0d\\x83\n:0D0300\n0000: 0D-03-00\n"))
	format := serial.Usual
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, of := range []*serial.Format{nil, &format} {
			r := New(nil)
			if err := r.Read(context.Background(), Source{Name: "x", From: bytes.NewReader(data), Serial: of}); err != nil {
				continue
			}
			if got := r.Finish(); got.Exchanges < 0 || got.Exchanges > int64(len(data)) {
				t.Errorf("%d exchanges in %d octets", got.Exchanges, len(data))
			}
		}
	})
}

// hears counts what a listener is told.
type hears struct {
	said [2]int64
	done int
}

func (h *hears) Packet(*capture.Packet)              {}
func (h *hears) Opened(*capture.Conn)                {}
func (h *hears) Heard(*capture.Conn, *capture.Heard) {}
func (h *hears) Done(c *capture.Conn) {
	h.said[0] += c.Octets[0]
	h.said[1] += c.Octets[1]
	h.done++
}

// FuzzAssemble: segments in any order, with any numbers, are put together without
// octets that nobody said, and every connection is told of once.
func FuzzAssemble(f *testing.F) {
	f.Add([]byte{0, 0, 0, 1, 2, 40, 1, 0, 0, 40, 2, 40, 0, 1, 0, 80, 4, 9})
	f.Fuzz(func(t *testing.T, data []byte) {
		to := &hears{}
		a := capture.NewAssembler(to)
		total := int64(0)
		octets := tcp(1, 1, 3, 0, 0, 0, 4)
		for n := int64(1); len(data) >= 6; n++ {
			p := capture.Packet{Number: n, At: time.Unix(int64(n), int64(data[1])*1e6), Kind: capture.TCP,
				From: rehearsal.End("192.0.2.10:50000"), To: rehearsal.End("192.0.2.21:502"),
				Flags: capture.Flags(data[1] & 31), Seq: uint32(binary.BigEndian.Uint16(data[2:])) << (data[0] >> 4),
				Ack: uint32(data[5]), Payload: octets[:int(data[4])%(len(octets)+1)], Cut: int(data[0]&15) >> 3}
			if data[0]&1 == 1 {
				p.From, p.To = p.To, p.From
			}
			if data[0]&2 == 2 {
				p.Kind = capture.UDP
			}
			total += int64(len(p.Payload))
			a.Packet(&p)
			data = data[6:]
		}
		a.Finish()
		if to.said[0]+to.said[1] > total || to.done != a.Conns {
			t.Errorf("%d octets of %d were said, %d connections of %d told of", to.said[0]+to.said[1], total, to.done,
				a.Conns)
		}
	})
}

// TestBrokenFiles: what is readable is read, and the rest is said.
func TestBrokenFiles(t *testing.T) {
	zipped := written(t, scenes[0].stage(0))
	unzip, err := gzip.NewReader(bytes.NewReader(zipped))
	if err != nil {
		t.Fatal(err)
	}
	plain, err := io.ReadAll(unzip)
	if err != nil {
		t.Fatal(err)
	}
	absurd := bytes.Clone(plain[:len(plain)/2])
	absurd = append(absurd, 6, 0, 0, 0, 0xFF, 0xFF, 0xFF, 0x7F, 1, 2, 3, 4)
	for _, c := range []struct {
		name, says string
		data       []byte
		some       bool
	}{
		{"cut off", "cannot be read", plain[:len(plain)-7], true},
		{"cut off when compressed", "cannot be read", zipped[:len(zipped)-30], true},
		{"an absurd length", "cannot be read", absurd, true},
		{"empty", "is empty", nil, false},
		{"a picture", "neither pcap nor pcapng", []byte("\x89PNG\r\n\x1a\n\x00\x00\x00\rIHDR"), false},
		{"prose", "without a line of octets", []byte("This is no recording.\nNone at all.\n"), false},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := New(nil)
			err := r.Read(context.Background(), Source{Name: "x", From: bytes.NewReader(c.data)})
			got := r.Finish()
			said := strings.Join(got.Said, "\n")
			if err != nil {
				said = err.Error()
			}
			if (err == nil) != c.some || !strings.Contains(said, c.says) || c.some && got.Exchanges == 0 {
				t.Errorf("%d exchanges, %v: %s", got.Exchanges, err, said)
			}
		})
	}
}

// TestBoundedMemory: a million connections, and a file that unpacks to a thousand times
// its size, take no more memory than a few.
func TestBoundedMemory(t *testing.T) {
	a := &actor{Stage: rehearsal.New()}
	r := New(nil)
	before := heap()
	for i := range 200_000 {
		c := a.Dial(controller, skid)
		if i%3 > 0 {
			c.Reset(capture.Side(i % 2)) // and a third stays open
		}
		for k := range a.Packets {
			r.assembler.Packet(&a.Packets[k])
		}
		a.Packets = a.Packets[:0]
		a.Wait(10 * time.Millisecond)
	}
	if grown := heap() - before; grown > 120<<20 {
		t.Errorf("the heap grew by %d MB", grown>>20)
	}
	if got := r.Finish(); got.Connections != 200_000 {
		t.Errorf("%d connections, %v", got.Connections, got.Said)
	}
}

func heap() int64 {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int64(m.HeapAlloc)
}
