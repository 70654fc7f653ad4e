package protocol

import "ferry/internal/core/address"

// Image is the map of a controller's own memory: inputs, outputs, flags and
// data blocks, addressed by byte and bit. No link speaks it; the maps of
// programs and of cyclic process images are written in it.
var Image = &Def{
	Name: "process-image", Title: "Process image and data blocks", MapOnly: true, Settings: []Setting{},
	Scheme:        address.Image,
	MaxUnits:      func(string) int { return 65536 },
	WireBytes:     func(string, int) (int, int) { return 0, 0 },
	Operation:     func(string, uint32, int) string { return "" },
	Function:      func(string) string { return "" },
	WriteFunction: func(string, int) string { return "" },
	Decline:       func(int) Declined { return Declined{} },
}

func init() { Register(Image) }
