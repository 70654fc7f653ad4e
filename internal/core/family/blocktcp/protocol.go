// Package blocktcp is the rules of block access over ISO-on-TCP: the memory of
// a controller, addressed by area or data block, byte and bit, the settings and
// limits of its connection, and its codes in words.
package blocktcp

import "ferry/internal/core/protocol"

// Image is the map of a controller's own memory, which no link speaks: the maps
// of programs and of cyclic process images are written in it.
var Image = &protocol.Def{
	Name: "process-image", Title: "Process image and data blocks", MapOnly: true, Settings: []protocol.Setting{},
	Scheme: Scheme,
}

func init() { protocol.Register(Image) }
