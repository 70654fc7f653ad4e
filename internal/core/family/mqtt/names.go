// Package mqtt is what Ferry knows of MQTT: so far, which names its topics hold.
package mqtt

import "ferry/internal/core/protocol"

func init() {
	protocol.RegisterNames(protocol.NameRule{Key: "mqtt", Title: "MQTT topics",
		// A level of a topic: MQTT 3.1.1, clause 4.7.
		Allowed: func(_ int, r rune) bool { return r != '+' && r != '#' && r != '/' && r != 0 },
		Words:   "anything but +, # and /"})
}
