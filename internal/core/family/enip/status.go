package enip

import (
	"fmt"
	"maps"
	"slices"

	"ferry/internal/core/protocol"
)

// CodeOf is the code of a refusal: the general status, and the first word of the extended
// one above it.
func CodeOf(status byte, extended []uint16) int {
	code := int(status)
	if len(extended) > 0 {
		code |= int(extended[0]) << 8
	}
	return code
}

// StatusOf takes a code apart.
func StatusOf(code int) (status byte, extended uint16) { return byte(code), uint16(code >> 8) }

// Status is a code as manuals write it.
func Status(code int) string {
	status, extended := StatusOf(code)
	if extended == 0 {
		return fmt.Sprintf("status 0x%02X", status)
	}
	return fmt.Sprintf("status 0x%02X / 0x%04X", status, extended)
}

func ext(e int) int { return 0x01 | e<<8 }

// refusals are the general status codes (CIP volume 1, appendix B) and the extended ones of
// the connection manager (clause 3-5.6).
var refusals = map[int]protocol.Declined{
	0x01: {Title: "connection failure", Means: "The connection did not come about, for a reason of its own.",
		Causes: "Look at the extended status, which says why."},
	0x02: {Title: "resource unavailable", Means: "The device has no room for what is asked.",
		Causes: "Close what else is connected to it, or ask for less at once.", Finding: "busy"},
	0x03: {Title: "invalid parameter value", Means: "A value in the question is none that it takes.",
		Causes: "Compare with the manual of the object."},
	0x04: {Title: "path segment error", Means: "It does not understand the path, or there is no such tag.",
		Causes: "Compare the name letter by letter, with its program before it; look whether it may be read from outside."},
	0x05: {Title: "path destination unknown", Means: "There is no such object or instance, or not in that module.",
		Causes: "Compare class and instance with the manual, and the route to the module."},
	0x06: {Title: "partial transfer", Means: "Only a part fitted into the answer.",
		Causes: "The rest is asked for with the next."},
	0x07: {Title: "connection lost", Means: "The connection was lost.", Causes: "Look at the network, and ask again."},
	0x08: {Title: "service not supported", Means: "It does not know this service there.",
		Causes:  "Ask in another way: not every object gives all of its attributes at once, or several in one message.",
		Finding: "exception-function"},
	0x09: {Title: "invalid attribute value", Means: "It does not take that value.",
		Causes: "Compare the range with the manual.", Finding: "exception-value"},
	0x0B: {Title: "already in requested mode", Means: "It is so already.", Causes: "There is nothing to do."},
	0x0C: {Title: "object state conflict", Means: "The object cannot do that in the state that it is in.",
		Causes: "Look whether it runs, is being set up, or is held by another: some want a restart after set-up.",
		Access: []string{"mode", "restart"}},
	0x0E: {Title: "attribute not settable", Means: "It cannot be written.", Causes: "Set the point to read-only.",
		Finding: "exception-value"},
	0x0F: {Title: "privilege violation", Means: "This end may not do that.",
		Causes: "Look at what the device allows from outside, and at the key switch.", Access: []string{"write", "remote"}},
	0x10: {Title: "device state conflict", Means: "The device cannot do that in its state.",
		Causes: "Put it into run mode, or out of it, as its manual says.", Access: []string{"mode"}},
	0x11: {Title: "reply data too large", Means: "The answer does not fit into a message.",
		Causes: "Ask for less at once."},
	0x13: {Title: "not enough data", Means: "It wants more data than came with the question.",
		Causes: "Compare the size with the manual: the type may be a wider one.", Finding: "size-differs"},
	0x14: {Title: "attribute not supported", Means: "There is no such attribute.", Causes: "Compare it with the manual.",
		Finding: "exception-address"},
	0x15: {Title: "too much data", Means: "More data came with the question than it takes.",
		Causes: "Compare the size with the manual: the type may be a narrower one.", Finding: "size-differs"},
	0x16: {Title: "object does not exist", Means: "There is no such instance.", Causes: "Compare it with the manual.",
		Finding: "exception-address"},
	0x1E: {Title: "embedded service error", Means: "One of several questions in the message failed.",
		Causes: "Look at the answer to each."},
	0x20: {Title: "invalid parameter", Means: "A parameter of the question is none that it takes.",
		Causes: "Compare with the manual of the object."},
	0x26: {Title: "path size invalid", Means: "The path is longer or shorter than it takes.",
		Causes: "A name may have members or indexes that the tag has not."},
	0xFF: {Title: "general error", Means: "It failed for a reason of its own maker.",
		Causes: "Look at the extended status in its manual."},

	0xFF | 0x2105<<8: {Title: "beyond the end", Means: "The index lies beyond the end of the array.",
		Causes: "Compare the size of the array.", Finding: "exception-address"},
	0xFF | 0x2107<<8: {Title: "type mismatch", Means: "The type of the question is not that of the tag.",
		Causes: "Set the type of the point to that of the tag."},

	ext(0x0100): {Title: "connection in use", Means: "It has that connection already.",
		Causes: "Another end owns it, or an earlier one of this end has not timed out yet: wait, or end it there."},
	ext(0x0103): {Title: "transport class not supported", Means: "It does not know that transport class or trigger.",
		Causes: "Use class 1, in cycles."},
	ext(0x0106): {Title: "ownership conflict", Means: "Another end owns its outputs.",
		Causes: "Find the other, and let one of both only listen.", Finding: "two-writers"},
	ext(0x0107): {Title: "connection not found", Means: "It has no such connection.",
		Causes: "It timed out: open it again."},
	ext(0x0108): {Title: "invalid connection type", Means: "It does not take that kind of connection.",
		Causes: "Change between one receiver and many, or the priority."},
	ext(0x0109): {Title: "invalid connection size", Means: "A size is not the one that it has.", Finding: "size-differs",
		Causes: "Compare octets with elements × size, with 4 for a header and 2 for the sequence count."},
	ext(0x0110): {Title: "not configured", Means: "It is not set up.", Causes: "Set it up, and restart it.",
		Access: []string{"restart"}},
	ext(0x0111): {Title: "interval not supported", Means: "It cannot keep that interval.",
		Causes: "Ask for a longer one: the answer may say which it can.", Finding: "pace-not-held"},
	ext(0x0113): {Title: "out of connections", Means: "It has no connection free.",
		Causes: "Close one that is not needed.", Finding: "connection-limit"},
	ext(0x0114): {Title: "vendor or product mismatch", Means: "It is another product than the key says.",
		Causes: "Compare the electronic key with its identity, or switch the key off.", Finding: "key-differs"},
	ext(0x0115): {Title: "device type mismatch", Means: "It is of another type than the key says.",
		Causes: "Compare the electronic key with its identity, or switch the key off.", Finding: "key-differs"},
	ext(0x0116): {Title: "revision mismatch", Means: "It has another revision than the key says.",
		Causes: "Set the key to its revision, to compatible, or off.", Finding: "key-differs"},
	ext(0x0117): {Title: "invalid path", Means: "The instance that is to be produced or consumed is not there.",
		Causes: "Compare the instances with the manual or the description of the device.", Finding: "exception-address"},
	ext(0x0118): {Title: "invalid configuration path", Means: "The configuration instance is not there.",
		Causes: "Compare it with the manual. None and an empty one are not the same.", Finding: "exception-address"},
	ext(0x0119): {Title: "no owner yet", Means: "Only listening is possible once another owns it.",
		Causes: "Start the owner first, or own it."},
	ext(0x011A): {Title: "out of connections", Means: "It has no connection free.",
		Causes: "Close one that is not needed.", Finding: "connection-limit"},
	ext(0x011B): {Title: "interval too short", Means: "The interval is shorter than it may send.",
		Causes: "Ask for a longer one.", Finding: "pace-not-held"},
	ext(0x0123): {Title: "network type towards it not supported", Means: "It does not take that casting.",
		Causes: "Change between one receiver and many."},
	ext(0x0124): {Title: "network type from it not supported", Means: "It does not send to so many, or to one.",
		Causes: "Change between one receiver and many."},
	ext(0x0125): {Title: "priority towards it not supported", Means: "It does not take that priority.",
		Causes: "Use scheduled."},
	ext(0x0126): {Title: "configuration size wrong", Means: "The data of its configuration has another size.",
		Causes: "Compare the size, and whether it wants none, an empty one, or data.", Finding: "size-differs"},
	ext(0x0127): {Title: "size towards it wrong", Means: "What is to be sent to it has another size than it takes.",
		Causes:  "Compare octets with elements × size, with 4 for a run/idle header and 2 for the sequence count.",
		Finding: "size-differs"},
	ext(0x0128): {Title: "size from it wrong", Means: "What it sends has another size than was asked for.",
		Causes:  "Compare octets with elements × size, with 2 for the sequence count, and 4 where it has a header.",
		Finding: "size-differs"},
	ext(0x0129): {Title: "configuration instance wrong", Means: "The configuration instance is not there.",
		Causes: "Compare it with the manual. None and an empty one are not the same.", Finding: "exception-address"},
	ext(0x012A): {Title: "consumed instance wrong", Means: "The instance that takes outputs is not there.",
		Causes: "Compare it with the manual or the description of the device.", Finding: "exception-address"},
	ext(0x012B): {Title: "produced instance wrong", Means: "The instance that gives inputs is not there.",
		Causes: "Compare it with the manual or the description of the device.", Finding: "exception-address"},
	ext(0x0203): {Title: "connection timed out", Means: "Nothing came over it for as long as it may.",
		Causes: "Look at the network, the load of both ends, and the multiplier.", Finding: "cyclic-timeout"},
	ext(0x0204): {Title: "unconnected request timed out", Means: "What it was to pass on to did not answer.",
		Causes: "Compare the route to the module, and look whether it is there.", Finding: "gateway-target-silent"},
	ext(0x0205): {Title: "wrong parameter of the request", Means: "It cannot pass that on.", Causes: "Compare the route."},
	ext(0x0312): {Title: "link address not valid", Means: "There is no module at that place of the route.",
		Causes: "Compare slot and port.", Finding: "gateway-path"},
	ext(0x0315): {Title: "invalid segment in the path", Means: "It does not know a part of the path.",
		Causes: "Compare instances, key and route with the manual.", Finding: "exception-address"},
}

// statuses are what both ways of talking have in common.
type statuses struct{}

// Calling is List Identity.
func (statuses) Calling() string { return "Ask all who they are" }

// Codes lists the codes that have a name.
func (statuses) Codes() []int { return slices.Collect(maps.Keys(refusals)) }

// CodeShown is a status as manuals and devices show it.
func (statuses) CodeShown(code int) (text string, numbers []int) {
	status, extended := StatusOf(code)
	if extended == 0 {
		return fmt.Sprintf("%d (0x%02X)", status, status), []int{int(status)}
	}
	return fmt.Sprintf("0x%02X / 0x%04X", status, extended), []int{int(extended)}
}

// Decline explains a status.
func (statuses) Decline(code int) protocol.Declined {
	if code&(1<<24) != 0 {
		if d, ok := ofSession[code&0xFFFF]; ok {
			return d
		}
		return protocol.Declined{Title: fmt.Sprintf("status %04X of the encapsulation", code&0xFFFF),
			Means: "It does not take the frame.", Causes: "Look at its version, and at what lies between."}
	}
	status, extended := StatusOf(code)
	d, ok := refusals[code]
	if !ok {
		if d, ok = refusals[int(status)]; !ok {
			d = protocol.Declined{Title: "a status of its own",
				Means:  "The device refuses with a status that the standard leaves free.",
				Causes: "Look it up in the manual of the device."}
		}
		if extended != 0 {
			d.Title += ", of a kind that is not known here"
		}
	}
	d.Title += " (" + Status(code) + ")"
	return d
}

// OfSession is the code of a status of the encapsulation (CIP volume 2, table 2-3.3).
func OfSession(status uint32) int { return 1<<24 | int(status&0xFFFF) }

var ofSession = map[int]protocol.Declined{
	0x01: {Title: "command not known", Means: "It does not know that command.", Causes: "Look at its version."},
	0x02: {Title: "no memory for a session", Means: "It has no room for another session.",
		Causes: "Close what else is connected to it.", Finding: "connection-limit"},
	0x03: {Title: "bad data", Means: "What the frame holds is no message for it.", Causes: "Look at the octets."},
	0x64: {Title: "session not known", Means: "It does not know the session.", Causes: "It was restarted: connect again."},
	0x65: {Title: "wrong length", Means: "The length of the frame is none that it takes.", Causes: "Look at the octets."},
	0x69: {Title: "version not supported", Means: "It speaks another version of the encapsulation.",
		Causes: "Look at its version."},
}

// types are device types of the standard (volume 1, clause 6-7), as a selection.
var types = map[uint16]string{2: "drive", 3: "motor overload", 7: "general discrete I/O", 12: "communications adapter",
	14: "controller", 16: "position controller", 22: "fibre optic", 24: "panel", 28: "mass flow controller",
	30: "pneumatic valve",
	35: "process control valve", 43: "generic device", 44: "managed switch"}

// statusBits are those of the status of the identity object (clause 5A-2.2.1.5).
var statusBits = []struct {
	bit  int
	says string
}{{0, "owned"}, {2, "configured"}, {8, "minor fault, will pass"}, {9, "minor fault"}, {10, "major fault, will pass"},
	{11, "major fault"}}

// extendedStates are bits 4 to 7 of it.
var extendedStates = map[uint16]string{1: "firmware is being loaded", 2: "a connection is in fault", 3: "no connection",
	4: "its kept settings are bad", 5: "major fault", 6: "a connection is in run", 7: "connections, all idle"}

// Identity is who a device says that it is, in words.
func Identity(name string, vendor, kind, product uint16, major, minor uint8, serial uint32, status uint16) string {
	is, ok := types[kind]
	if !ok {
		is = fmt.Sprintf("type %d", kind)
	}
	s := fmt.Sprintf("%s, %s, vendor %d, product %d, revision %d.%d, serial %08X", name, is, vendor, product, major, minor,
		serial)
	for _, b := range statusBits {
		if status&(1<<b.bit) != 0 {
			s += ", " + b.says
		}
	}
	if says := extendedStates[status>>4&15]; says != "" {
		s += ", " + says
	}
	return s
}
