package enip

import (
	"time"

	"ferry/internal/core/protocol"
)

// Asked is a cyclic connection as somebody asks a device for it.
type Asked struct {
	Class int
	// OutOctets and InOctets are the sizes towards the device and from it, with header and
	// sequence count; InEvery is how often it is to send.
	OutOctets, InOctets int
	InEvery             time.Duration
	// Points are the consumed and the produced instance, Config that of the configuration,
	// -1 for none, and Data its data where HasData is set.
	Points  []int
	Config  int
	HasData bool
	Data    []byte
	// Key is the electronic key, nil for none.
	Key        *Key
	Compatible bool
}

// Listens reports whether nothing but signs of life goes towards the device.
func (a *Asked) Listens() bool {
	return a.OutOctets <= countOctets && a.Class == 1 || a.OutOctets == 0
}

// Takes says by which status a device that is set so refuses a connection; 0 is that it
// takes it (volume 1, tables 3-5.28 and 3-5.29). The size or the interval that it wants
// follows the extended status.
func Takes(s protocol.Settings, is Key, a *Asked) (status byte, extended []uint16) {
	set := func(key string) int { return Cyclic.Int(s, key) }
	size := func(octets, head string) int {
		n := set(octets)
		if Cyclic.Value(s, head).On() {
			n += headerOctets
		}
		if a.Class == 1 {
			n += countOctets
		}
		return n
	}
	refuse := func(extended ...uint16) (byte, []uint16) { return 0x01, extended }
	wants, config := Cyclic.Value(s, KeyWants).Text(), set(KeyWantsSize)
	empty, filled := a.HasData && len(a.Data) == 0, a.HasData && len(a.Data) > 0
	if a.Class > 1 {
		return refuse(0x0103)
	}
	if a.Key != nil {
		if other := a.Key.Fits(is, a.Compatible); other != 0 {
			return refuse(other)
		}
	}
	switch least := time.Duration(set(KeyLeast)) * time.Millisecond; {
	case len(a.Points) != 2:
		return refuse(0x0117)
	case !a.Listens() && a.Points[0] != set(KeyOutInstance):
		return refuse(0x012A)
	case a.Points[1] != set(KeyInInstance):
		return refuse(0x012B)
	case a.Config > 0 && a.Config != set(KeyConfigAt):
		return refuse(0x0129)
	case wants == ConfigEmpty && !empty, wants == ConfigData && (!filled || len(a.Data) != config+config%2),
		wants == ConfigNone && filled:
		return refuse(0x0126, uint16(config))
	case !a.Listens() && a.OutOctets != size(KeyOutOctets, KeyOutHead):
		return refuse(0x0127, uint16(size(KeyOutOctets, KeyOutHead)))
	case a.InOctets != size(KeyInOctets, KeyInHead):
		return refuse(0x0128, uint16(size(KeyInOctets, KeyInHead)))
	case a.InEvery < least:
		us := uint32(least / time.Microsecond)
		return refuse(0x0111, uint16(us), uint16(us>>16))
	}
	return 0, nil
}
