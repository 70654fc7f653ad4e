package learn_test

import (
	"encoding/binary"
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/family/modbus"
	"ferry/internal/core/learn"
)

// TestPoints: types, orders, paces and rights are guessed from how values move.
func TestPoints(t *testing.T) {
	asked := []learn.Asked{{Range: block.Range{Area: "hr", Start: 0, Count: 10}, Every: 1010 * time.Millisecond},
		{Range: block.Range{Area: "hr", Start: 8, Count: 1}, Written: true},
		{Range: block.Range{Area: "co", Start: 3, Count: 2}, Every: 240 * time.Millisecond}}
	for i := range 40 {
		b := binary.BigEndian.AppendUint32(nil, math.Float32bits(float32(8.4+0.1*math.Sin(float64(i)))))
		swapped := math.Float32bits(float32(40 + float64(i)/7))
		b = binary.BigEndian.AppendUint32(b, swapped<<16|swapped>>16)
		b = binary.BigEndian.AppendUint16(b, uint16(int16(3-i)))
		b = binary.BigEndian.AppendUint16(b, uint16(1200+i*3))
		b = binary.BigEndian.AppendUint32(b, math.Float32bits(20)) // a setpoint that stands still
		b = binary.BigEndian.AppendUint16(b, 1)                    // a state
		b = binary.BigEndian.AppendUint16(b, 0)
		asked[0].Readings = append(asked[0].Readings, b)
		asked[2].Readings = append(asked[2].Readings, []byte{byte(i % 2), 1})
	}
	var got []string
	for _, g := range learn.Points(modbus.Scheme, asked) {
		got = append(got, fmt.Sprintf("%s %s%s %d %s", g.At, g.Type, g.Order, g.PaceMs, g.Access))
	}
	want := `00004 bool 250 r
00005 bool 250 r
40001 float32ABCD 1000 r
40003 float32CDAB 1000 r
40005 int16 1000 r
40006 uint16 1000 r
40007 float32ABCD 1000 r
40009 uint16 1000 rw
40010 uint16 1000 r`
	if strings.Join(got, "\n") != want {
		t.Errorf("guessed\n%s\nwant\n%s", strings.Join(got, "\n"), want)
	}
	if none := learn.Points(modbus.Scheme, nil); len(none) > 0 {
		t.Errorf("of nothing it guesses %v", none)
	}
}
