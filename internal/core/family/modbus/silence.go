package modbus

import "ferry/internal/core/serial"

// SilenceMs is the silence that ends an RTU frame: 3.5 characters, and 1.75 ms
// above 19 200 baud (serial line guide V1.02, clause 2.5.1.1). The guide counts
// 11 bits to a character whatever its format.
func SilenceMs(f serial.Format) float64 {
	if f.Baud > 19200 {
		return 1.75
	}
	return 3.5 * 11 * 1000 / float64(f.Baud)
}

// GapMs is the longest pause inside an RTU frame: 1.5 characters, and 0.75 ms
// above 19 200 baud (same clause).
func GapMs(f serial.Format) float64 {
	if f.Baud > 19200 {
		return 0.75
	}
	return 1.5 * 11 * 1000 / float64(f.Baud)
}
