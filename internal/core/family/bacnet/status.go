package bacnet

import (
	"fmt"

	"ferry/internal/core/protocol"
)

// A code of a refusal is that of an error, its class in the second octet (clause 18), or the reason of a reject
// or an abort with codeReject or codeAbort.
const (
	codeReject = 0x10000
	codeAbort  = 0x20000
)

// ErrorCode is the code of an error, RejectCode and AbortCode those of a reject and an abort.
func ErrorCode(class, code uint32) int { return int(class&0xFF)<<8 | int(code&0xFF) | errorMark }

// errorMark keeps the code of class device, code other, from being none.
const errorMark = 0x40000

// RejectCode is as ErrorCode.
func RejectCode(reason uint8) int { return codeReject | int(reason) }

// AbortCode is as ErrorCode.
func AbortCode(reason uint8) int { return codeAbort | int(reason) }

// Reasons of rejects and aborts that say what a device cannot do (clauses 18.8 and 18.9).
const (
	RejectUnknownService  = 9
	RejectOther           = 0
	AbortBuffer           = 1
	AbortNoSegments       = 4
	AbortTooLong          = 11
	CodeUnknownObject     = 31
	CodeUnknownProperty   = 32
	CodeServiceRefused    = 29
	CodeUnsupportedOption = 45
	CodeNoSpaceForList    = 18
	CodeNotSubscribable   = 45
)

// errorClasses are the classes of errors (clause 18.1).
var errorClasses = map[int]string{0: "device", 1: "object", 2: "property", 3: "resources", 4: "security", 5: "services",
	6: "vt", 7: "communication"}

// errors are the codes of errors that devices send (clause 18).
var errorCodes = map[int]protocol.Declined{
	0: {Title: "other", Means: "The device gives no reason.", Causes: "Look into the log of the device."},
	3: {Title: "configuration in progress", Means: "The device is being set up just now.",
		Causes: "Wait until that has ended.", Finding: "busy"},
	4: {Title: "device busy", Means: "The device has no time for it now.", Causes: "Ask more slowly, or later.",
		Finding: "busy"},
	7: {Title: "inconsistent parameters", Means: "What is asked contradicts itself.",
		Causes: "It is a defect of who asks."},
	9: {Title: "invalid data type", Means: "The value has another type than the property.",
		Causes: "Compare the type of the object with the map.", Finding: "exception-value"},
	12: {Title: "list element not found", Means: "The list has no such element.", Causes: "Read the list anew."},
	18: {Title: "no space to add list element", Means: "The device has no room for another subscription or entry.",
		Causes: "Ask for values of some points at their pace instead, or let another reader have fewer.", Finding: "busy"},
	19: {Title: "no space to write property", Means: "The device has no room for the value.",
		Causes: "Look at the device."},
	22: {Title: "property is not a list", Means: "No run of such a property can be read.", Causes: "Read it whole."},
	25: {Title: "operational problem", Means: "The device has a fault that keeps it from answering.",
		Causes: "Look at the device.", Finding: "busy"},
	26: {Title: "password failure", Means: "The password is wrong or missing.", Causes: "Ask who runs the device.",
		Access: []string{"write"}},
	27: {Title: "read access denied", Means: "The device does not let that be read.",
		Causes: "Look at the rights there.", Access: []string{"remote"}},
	29: {Title: "service request denied", Means: "The device does not do that for this asker.",
		Causes: "Look at the rights there.", Access: []string{"remote"}},
	30: {Title: "timeout", Means: "What stands behind the device did not answer in time.",
		Causes: "Look at the network behind it.", Unsure: true, Beyond: true},
	31: {Title: "unknown object", Means: "The device has no such object.",
		Causes: "Compare type and instance with its object list.", Finding: "exception-address"},
	32: {Title: "unknown property", Means: "The object has no such property.",
		Causes: "Compare with its property list: many properties are optional.", Finding: "exception-address"},
	37: {Title: "value out of range", Means: "The value is outside of what the object takes.",
		Causes: "Compare with min-pres-value, max-pres-value or the number of states.", Finding: "exception-value"},
	40: {Title: "write access denied", Means: "The property is only read.",
		Causes: "An input is written only while it is out of service; an output or a value may have no priorities.", Access: []string{"write"}},
	41: {Title: "character set not supported", Means: "The device does not know the characters.",
		Causes: "Write plain letters."},
	42: {Title: "invalid array index", Means: "The property has no such element.",
		Causes: "Element 0 says how many there are.", Finding: "exception-address"},
	43: {Title: "COV subscription failed", Means: "The device takes no subscription.",
		Causes: "Have changes of this link asked for.", Finding: "busy"},
	44: {Title: "not a COV property", Means: "The device does not tell of changes of it.",
		Causes: "Have changes of this link asked for."},
	45: {Title: "optional functionality not supported", Means: "The device does not tell of changes of such an object.",
		Causes: "Have changes of this link asked for."},
	46: {Title: "invalid configuration data", Means: "The device is not set up rightly.", Causes: "Look at the device."},
	47: {Title: "datatype not supported", Means: "The device does not read such a type there.",
		Causes: "Compare the type of the object with the map.", Finding: "exception-value"},
	50: {Title: "property is not an array", Means: "It has no elements.", Causes: "Leave out the number in brackets.",
		Finding: "exception-address"},
	83: {Title: "value too long", Means: "The text is longer than the device takes.", Causes: "Write a shorter one.",
		Finding: "exception-value"},
}

var rejectReasons = [...]string{"other", "buffer overflow", "inconsistent parameters", "invalid parameter data type",
	"invalid tag",
	"missing required parameter", "parameter out of range", "too many arguments", "undefined enumeration",
	"unrecognized service"}

var abortReasons = [...]string{"other", "buffer overflow", "invalid APDU in this state",
	"preempted by higher priority task",
	"segmentation not supported", "security error", "insufficient security", "window size out of range",
	"application exceeded reply time", "out of resources", "TSM timeout", "APDU too long"}

// Words are those of a code.
func Words(code int) string {
	switch of := code & 0xFF; {
	case code&codeReject != 0:
		return "rejected: " + wordsOf(rejectReasons[:], of)
	case code&codeAbort != 0:
		return "broken off: " + wordsOf(abortReasons[:], of)
	default:
		title := fmt.Sprintf("code %d", of)
		if d, known := errorCodes[of]; known {
			title = d.Title
		}
		return title
	}
}

func wordsOf(list []string, at int) string {
	if at < len(list) {
		return list[at]
	}
	return fmt.Sprintf("reason %d, one of the maker's own", at)
}

// Decline explains a code.
func (rules) Decline(code int) protocol.Declined {
	of := code & 0xFF
	d := protocol.Declined{Title: Words(code), Octet: of}
	switch {
	case code&codeReject != 0:
		d.Means, d.Causes = "The device does not understand the question.",
			"It knows less of the protocol than it was asked for: look at its statement of conformance."
		if of == RejectUnknownService {
			d.Finding, d.Means = "exception-function", "The device does not know this service."
		}
	case code&codeAbort != 0:
		d.Means, d.Causes = "The device breaks the conversation off.", "Ask for less at once."
		switch of {
		case AbortNoSegments:
			d.Means = "The answer is longer than one message, and the device sends none in parts (segmentation not supported)."
			d.Causes, d.Less = "Ask for fewer objects at once: lists are read element by element then.", true
		case AbortBuffer, AbortTooLong:
			d.Less = true
			d.Means = "The answer is longer than the device can send."
		case 9:
			d.Finding = "busy"
			d.Means, d.Causes = "The device has no room for another question.", "Ask more slowly, or let fewer ask."
		case 8, 10:
			d.Unsure = true
		}
	default:
		if known, ok := errorCodes[of]; ok {
			octet, title := d.Octet, known.Title
			d = known
			d.Octet = octet
			d.Title = fmt.Sprintf("class %s, %s", errorClasses[code>>8&0xFF], title)
			return d
		}
		d.Means, d.Causes = "The device refuses with a code of its own.", "Look the code up in the device's manual."
		d.Title = fmt.Sprintf("class %d, code %d", code>>8&0xFF, of)
	}
	return d
}

// reliabilities say why a value is not to be relied on (clause 21, BACnetReliability).
var reliabilities = [...]string{"no fault detected", "no sensor", "over range", "under range", "open loop",
	"shorted loop", "no output",
	"unreliable, of another kind", "process error", "multi-state fault", "configuration error", "",
	"communication failure",
	"member fault", "monitored object fault", "tripped", "lamp failure", "activation failure", "renew DHCP failure",
	"renew FD registration failure", "restart auto-negotiation failure", "restart failure", "proprietary command failure",
	"faults listed", "referenced object fault"}

// ReliabilityWords are those of a reliability.
func ReliabilityWords(n uint64) string {
	if n < uint64(len(reliabilities)) && reliabilities[n] != "" {
		return reliabilities[n]
	}
	return fmt.Sprintf("reliability %d", n)
}
