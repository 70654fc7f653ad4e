package bacnet

import (
	"encoding/binary"
	"fmt"
)

// Network is a message of the network layer (clause 6.2): its version 1, a control octet, where it goes and
// where it comes from if that is another network, and what it carries.
type Network struct {
	To, From Station
	// Hops are those left to it where it goes to another network.
	Hops uint8
	// Expects is set where an answer is expected, Priority is from 0 to 3.
	Expects  bool
	Priority uint8
	// Message is one of the network layer itself; Carries is set where it is one of the application.
	Message NetworkMessage
	Carries bool
	// Body is what is carried, or the content of a message, BodyAt where it begins.
	Body   []byte
	BodyAt int
}

// Station is an address behind a network number; 0 stands for the network at hand, 65535 for all of them.
// No address stands for all stations of the network.
type Station struct {
	Network uint16
	Address string // its octets
}

// EveryNetwork is the number that stands for all networks.
const EveryNetwork = 0xFFFF

// NetworkMessage says what a message of the network layer is for (clause 6.2.4).
type NetworkMessage uint8

// Messages of the network layer.
const (
	WhoIsRouter        NetworkMessage = 0x00
	IAmRouter          NetworkMessage = 0x01
	ICouldBeRouter     NetworkMessage = 0x02
	RejectToNetwork    NetworkMessage = 0x03
	RouterBusy         NetworkMessage = 0x04
	RouterAvailable    NetworkMessage = 0x05
	InitRoutingTable   NetworkMessage = 0x06
	InitRoutingAck     NetworkMessage = 0x07
	WhatIsNetwork      NetworkMessage = 0x12
	NetworkNumberIs    NetworkMessage = 0x13
	firstOfMakers                     = 0x80
	networkVersion                    = 1
	ofNetworkLayer                    = 0x80
	hasDestination                    = 0x20
	hasSource                         = 0x08
	expectsReply                      = 0x04
	mostHops                          = 255
	mostStationAddress                = 7
)

// ParseNetwork reads the octets of the network layer; from is where they begin.
func ParseNetwork(b []byte, from int) (n Network, err error) {
	if len(b) < 2 {
		return n, fmt.Errorf("the network layer has %d octets", len(b))
	}
	if b[0] != networkVersion {
		return n, fmt.Errorf("the network layer is of version %d, and %d is known", b[0], networkVersion)
	}
	control, at := b[1], 2
	n.Expects, n.Priority, n.Carries = control&expectsReply != 0, control&3, control&ofNetworkLayer == 0
	station := func(mayBeAll bool) (s Station, err error) {
		if len(b) < at+3 {
			return s, fmt.Errorf("an address of the network layer is cut short")
		}
		s.Network = binary.BigEndian.Uint16(b[at:])
		size := int(b[at+2])
		at += 3
		switch {
		case len(b) < at+size:
			return s, fmt.Errorf("an address of the network layer says %d octets, and %d follow", size, len(b)-at)
		case size > mostStationAddress:
			return s, fmt.Errorf("an address of the network layer has %d octets", size)
		case !mayBeAll && (size == 0 || s.Network == EveryNetwork), s.Network == 0:
			return s, fmt.Errorf("an address of the network layer is of network %d with %d octets", s.Network, size)
		}
		s.Address = string(b[at : at+size])
		at += size
		return s, nil
	}
	if control&hasDestination != 0 {
		if n.To, err = station(true); err != nil {
			return n, err
		}
	}
	if control&hasSource != 0 {
		if n.From, err = station(false); err != nil {
			return n, err
		}
	}
	if control&hasDestination != 0 {
		if len(b) <= at {
			return n, fmt.Errorf("the hops that are left are missing")
		}
		n.Hops = b[at]
		at++
	}
	if !n.Carries {
		if len(b) <= at {
			return n, fmt.Errorf("a message of the network layer does not say which")
		}
		n.Message = NetworkMessage(b[at])
		if at++; n.Message >= firstOfMakers {
			if at += 2; len(b) < at {
				return n, fmt.Errorf("a message of the network layer does not say whose it is")
			}
		}
	}
	n.Body, n.BodyAt = b[at:], from+at
	return n, nil
}

// Append appends the message.
func (n *Network) Append(dst []byte) []byte {
	control := n.Priority & 3
	if !n.Carries {
		control |= ofNetworkLayer
	}
	if n.Expects {
		control |= expectsReply
	}
	if n.To.Network != 0 {
		control |= hasDestination
	}
	if n.From.Network != 0 {
		control |= hasSource
	}
	dst = append(dst, networkVersion, control)
	for _, s := range []Station{n.To, n.From} {
		if s.Network != 0 {
			dst = append(binary.BigEndian.AppendUint16(dst, s.Network), byte(len(s.Address)))
			dst = append(dst, s.Address...)
		}
	}
	if n.To.Network != 0 {
		hops := n.Hops
		if hops == 0 {
			hops = mostHops
		}
		dst = append(dst, hops)
	}
	if !n.Carries {
		dst = append(dst, byte(n.Message))
	}
	return append(dst, n.Body...)
}

// Networks are the numbers in the body of a message that lists networks: of routers.
func (n *Network) Networks() (list []uint16) {
	for b := n.Body; len(b) >= 2; b = b[2:] {
		list = append(list, binary.BigEndian.Uint16(b))
	}
	return list
}
