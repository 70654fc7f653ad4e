package recording

import (
	"bytes"
	"context"
	"io"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"ferry/internal/core/rehearsal"
	"ferry/internal/files"
)

// busy is a recording of so many exchanges between one controller and ten devices.
func busy(tb testing.TB, exchanges int) []byte {
	tb.Helper()
	var out bytes.Buffer
	w, err := files.NewCaptureWriter(&out)
	if err != nil {
		tb.Fatal(err)
	}
	a := &actor{Stage: rehearsal.New(), rnd: rand.New(rand.NewPCG(11, 1))}
	conns := make([]*rehearsal.Conn, 10)
	for i := range conns {
		conns[i] = a.Dial(controller, "192.0.2."+string(rune('1'+i/5))+string(rune('1'+i%5))+":502")
	}
	for i := range exchanges {
		id := a.next()
		n := 4 + i%40
		conns[i%10].Talk(tcp(id, 1, a.read(uint16(n), n)...), tcp(id, 1, a.registers(n)...), a.think())
		a.Wait(time.Millisecond)
		for k := range a.Packets {
			if err := w.Write(&a.Packets[k]); err != nil {
				tb.Fatal(err)
			}
		}
		a.Packets = a.Packets[:0]
	}
	if err := w.Flush(); err != nil {
		tb.Fatal(err)
	}
	return out.Bytes()
}

// BenchmarkDiagnose sets the whole of a diagnosis beside reading the packets and
// decoding their headers with the same library.
func BenchmarkDiagnose(b *testing.B) {
	data := busy(b, 200_000)
	b.Run("headers alone", func(b *testing.B) {
		b.SetBytes(int64(len(data)))
		b.ReportAllocs()
		for b.Loop() {
			headers(b, data)
		}
	})
	b.Run("diagnosed", func(b *testing.B) {
		b.SetBytes(int64(len(data)))
		b.ReportAllocs()
		for b.Loop() {
			r := New(nil)
			if err := r.Read(context.Background(), Source{Name: "busy.pcapng", From: bytes.NewReader(data)}); err != nil {
				b.Fatal(err)
			}
			if got := r.Finish(); got.Exchanges != 200_000 || len(got.Findings) > 0 {
				b.Fatalf("%d exchanges, %v", got.Exchanges, codes(got.Findings))
			}
		}
	})
}

func headers(tb testing.TB, data []byte) {
	r, err := pcapgo.NewNgReader(bytes.NewReader(data), pcapgo.NgReaderOptions{WantMixedLinkType: true})
	if err != nil {
		tb.Fatal(err)
	}
	var eth layers.Ethernet
	var ip layers.IPv4
	var tcp layers.TCP
	var rest gopacket.Payload
	parser := gopacket.NewDecodingLayerParser(layers.LayerTypeEthernet, &eth, &ip, &tcp, &rest)
	parser.IgnoreUnsupported = true
	var decoded []gopacket.LayerType
	for {
		packet, _, err := r.ZeroCopyReadPacketData()
		if err == io.EOF {
			return
		}
		if err != nil {
			tb.Fatal(err)
		}
		if err := parser.DecodeLayers(packet, &decoded); err != nil {
			tb.Fatal(err)
		}
	}
}
