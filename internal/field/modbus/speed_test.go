package modbus_test

import (
	"context"
	"testing"

	"ferry/internal/bench"
	"ferry/internal/core/address"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	_ "ferry/internal/field/modbus"
)

// BenchmarkRequests sets the run engine beside a bare loop over the same
// socket code: one connection, one request outstanding, 10 registers from a
// server on loopback. The engine is to reach at least 80 % of the loop.
func BenchmarkRequests(b *testing.B) {
	s := &site.Site{Lines: []site.Line{{ID: "net", Medium: site.Ethernet}},
		Links:   []site.Link{{ID: "k", Answering: "d", Line: "net", Protocol: "modbus-tcp"}},
		Devices: []site.Device{{ID: "d", Name: "Probe", Map: "modbus-tcp", Ports: []site.Port{{Line: "net", Host: "192.0.2.21", Protocol: "modbus-tcp", Settings: map[string]int{"thinkMs": 0}}}}}}
	for i := range 10 {
		s.Devices[0].Points = append(s.Devices[0].Points, site.Point{ID: string(rune('a' + i)), Name: string(rune('A' + i)),
			Address: address.At("hr", uint32(i)), Type: value.TypeUint16, PaceMs: 1000, Access: site.ReadOnly})
	}
	stand := bench.New()
	if err := stand.Sync(s); err != nil {
		b.Fatal(err)
	}
	defer stand.Close()
	dial := stand.Dial(s, &s.Links[0])
	b.Run("bare loop", func(b *testing.B) {
		driver, _, err := field.DriverOf("modbus-tcp")
		if err != nil {
			b.Fatal(err)
		}
		conn, reply := driver.Dial(context.Background(), field.Target{Dial: dial})
		if conn == nil {
			b.Fatal(reply.Sentence)
		}
		defer conn.Close()
		b.ReportAllocs()
		for b.Loop() {
			if reply := conn.Read("hr", 0, 10); !reply.OK() {
				b.Fatal(reply.Sentence)
			}
		}
		b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "requests/s")
	})
	b.Run("run engine", func(b *testing.B) {
		b.ReportAllocs()
		n, err := field.RunRequests(&s.Links[0], &s.Devices[0], field.Target{Dial: dial}, b.N)
		if err != nil || n < b.N {
			b.Fatal(n, err)
		}
		b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "requests/s")
	})
}
