package modbus

import (
	"math"
	"testing"

	"ferry/internal/core/serial"
)

// TestSilence: the silences of the guide, by the baud rate alone.
func TestSilence(t *testing.T) {
	for _, c := range []struct {
		format          string
		silence, within float64 // ms
	}{{"9600:8E1", 4.0104, 1.7188}, {"19200:8N1", 2.0052, 0.8594}, {"38400:8E1", 1.75, 0.75},
		{"115200:7O1", 1.75, 0.75}} {
		f, err := serial.ParseFormat(c.format)
		if err != nil {
			t.Fatal(err)
		}
		near := func(a, b float64) bool { return math.Abs(a-b) < 0.0001 }
		if !near(SilenceMs(f), c.silence) || !near(GapMs(f), c.within) {
			t.Errorf("%s: %.4f and %.4f ms, want %+v", c.format, SilenceMs(f), GapMs(f), c)
		}
	}
}
