package iec61850

import (
	"fmt"
	"strings"

	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// A code of a refusal is a data access error (ISO 9506-2, DataAccessError), an error of a service with
// codeService, its class in the second octet, or an additional cause of a control (IEC 61850-7-2, table
// 57) with codeCause.
const (
	codeAccess  = 0x100
	codeService = 0x10000
	codeCause   = 0x200
)

// Data access errors.
const (
	AccessInvalidated = 0
	AccessHardware    = 1
	AccessUnavailable = 2
	AccessDenied      = 3
	AccessUndefined   = 4
	AccessAddress     = 5
	AccessUnsupported = 6
	AccessType        = 7
	AccessAttribute   = 8
	AccessNotThere    = 10
	AccessValue       = 11
)

// AccessCode is the code of a data access error, ServiceCode that of an error of a service, CauseCode
// that of an additional cause.
func AccessCode(e int) int { return codeAccess | e&0xFF }

// ServiceCode is as AccessCode.
func ServiceCode(class, code int) int { return codeService | class&0xFF<<8 | code&0xFF }

// CauseCode is as AccessCode.
func CauseCode(cause int) int { return codeCause | cause&0xFF }

var accessErrors = map[int]protocol.Declined{
	AccessInvalidated: {Title: "object invalidated", Means: "The object has become invalid.",
		Causes: "Read the model anew."},
	AccessHardware: {Title: "hardware fault", Means: "The device has a fault.", Causes: "Look at the device."},
	AccessUnavailable: {Title: "temporarily unavailable", Means: "It cannot be had just now.",
		Causes: "Try again: it may be held by another.", Finding: "busy"},
	AccessDenied: {Title: "object access denied", Means: "The server does not allow it.",
		Causes: "Look at the rights there, and whether it is writable at all.", Access: []string{"remote", "write"}},
	AccessUndefined: {Title: "object undefined", Means: "The server does not know what is meant.",
		Causes: "Compare the reference with the model.", Finding: "exception-address"},
	AccessAddress: {Title: "invalid address", Means: "The reference is none.",
		Causes: "Compare the reference with the model.", Finding: "exception-address"},
	AccessUnsupported: {Title: "type unsupported", Means: "The server does not read such a type there.",
		Causes: "Compare the type with the model."},
	AccessType: {Title: "type inconsistent", Means: "The value has another type than the attribute.",
		Causes: "Compare the type with the model.", Finding: "exception-value"},
	AccessAttribute: {Title: "object attribute inconsistent", Means: "It does not fit what else is set.",
		Causes: "A report that is enabled cannot be changed: disable it first."},
	9: {Title: "object access unsupported", Means: "The server does not support it there.",
		Causes: "Compare with the conformance statement of the device.", Finding: "exception-function"},
	AccessNotThere: {Title: "object non-existent", Means: "There is no such attribute.",
		Causes: "Compare the reference letter by letter, with its functional constraint.", Finding: "exception-address"},
	AccessValue: {Title: "object value invalid", Means: "The value is none that it takes.",
		Causes: "Compare the range with the model.", Finding: "exception-value"},
}

// causes are the additional causes of controls that fail.
var causes = map[int]protocol.Declined{
	1: {Title: "not supported", Means: "The control is not supported.",
		Causes: "Compare the control model with the file."},
	2: {Title: "blocked by switching hierarchy",
		Means: "It is operated from elsewhere: on the spot, or by a station above.", Causes: "Set the switch Loc at the device to remote.", Access: []string{"remote", "mode"}},
	3: {Title: "select failed", Means: "It could not be selected.", Causes: "Another may have selected it."},
	4: {Title: "invalid position", Means: "It is in no position from which that can be done.",
		Causes: "Look at the device."},
	5: {Title: "position reached", Means: "It is there already.", Causes: "There is nothing to do."},
	6: {Title: "parameter change in execution", Means: "Its settings are just being changed.", Causes: "Try again."},
	7: {Title: "step limit", Means: "It is at the end of its range.", Causes: "There is no step further."},
	8: {Title: "blocked by mode", Means: "The mode of the logical node holds it back.",
		Causes: "Look at Mod and Beh of the node.", Access: []string{"mode"}},
	9:  {Title: "blocked by process", Means: "The process holds it back.", Causes: "Look at EEHealth and at the process."},
	10: {Title: "blocked by interlocking", Means: "An interlock holds it back.", Causes: "Look at what locks it."},
	11: {Title: "blocked by synchrocheck", Means: "The check of synchronism holds it back.", Causes: "Look at the check."},
	12: {Title: "command already in execution", Means: "It is being operated already.",
		Causes: "Wait until it is done.", Finding: "busy"},
	13: {Title: "blocked by health", Means: "The health of the device holds it back.", Causes: "Look at Health."},
	14: {Title: "1-of-n control", Means: "Another control is under way.", Causes: "Wait until it is done.",
		Finding: "busy"},
	15: {Title: "abortion by cancel", Means: "It was cancelled.", Causes: "Look who cancelled it."},
	16: {Title: "time limit over", Means: "It was not done in its time.", Causes: "Look whether the device moved.",
		Unsure: true},
	17: {Title: "abortion by trip", Means: "A trip ended it.", Causes: "Look at the protection.", Unsure: true},
	18: {Title: "object not selected", Means: "It was not selected before.",
		Causes: "Compare the control model with that of the file: it is to be selected first."},
	19: {Title: "object already selected", Means: "Another has selected it.", Causes: "Wait, or look who.",
		Finding: "busy"},
	20: {Title: "no access authority", Means: "This client may not operate it.", Causes: "Look at the rights there.",
		Access: []string{"remote"}},
	21: {Title: "ended with overshoot", Means: "It went further than it was told to.", Causes: "Look at the device.",
		Unsure: true},
	22: {Title: "abortion due to deviation", Means: "It did not follow the command closely enough.",
		Causes: "Look at the device.", Unsure: true},
	23: {Title: "abortion by communication loss", Means: "What carries it out could not be reached.",
		Causes: "Look at the link behind the server.", Unsure: true},
	24: {Title: "abortion by command", Means: "Another command ended it.", Causes: "Look who gave it.", Unsure: true},
	25: {Title: "none", Means: "The server gives no cause.", Causes: "Look at the device."},
	26: {Title: "inconsistent parameters", Means: "The command differs from its selection.",
		Causes: "It is a defect of who asks."},
	27: {Title: "locked by other client", Means: "Another client holds it.", Causes: "Look who.", Finding: "busy"},
}

// serviceClasses are the classes of errors of services (ISO 9506-2, ServiceError).
var serviceClasses = map[int]string{0: "VMD state", 1: "application reference", 2: "definition", 3: "resource",
	4: "service", 5: "service preemption", 6: "time resolution", 7: "access", 8: "initiate", 9: "conclude",
	10: "cancel", 11: "file", 12: "others"}

// Decline explains a code.
func (r rules) Decline(code int) protocol.Declined {
	d := r.explain(code)
	d.Octet = code & 0xFF
	return d
}

func (rules) explain(code int) protocol.Declined {
	switch {
	case code >= codeService:
		class, of := code>>8&0xFF, code&0xFF
		d := protocol.Declined{Title: fmt.Sprintf("error of class %s, code %d", serviceClasses[class], of),
			Means: "The server refuses the question as a whole.", Causes: "Compare the names with its model."}
		if class == 7 && of == 2 || class == 2 && of == 1 {
			d.Means, d.Finding = "The server has nothing of that name.", "exception-address"
		}
		return d
	case code&codeCause != 0:
		if d, ok := causes[code&0xFF]; ok {
			d.Title = fmt.Sprintf("cause %d, %s", code&0xFF, d.Title)
			return d
		}
		return protocol.Declined{Title: fmt.Sprintf("cause %d", code&0xFF),
			Means: "The control failed for a cause of its own.", Causes: "Look into the log of the device.",
			Unsure: true}
	}
	if d, ok := accessErrors[code&0xFF]; ok && code&codeAccess != 0 {
		return d
	}
	return protocol.Declined{Title: fmt.Sprintf("error %d", code&0xFF), Means: "The server refuses.",
		Causes: "Look into the log of the device."}
}

// Words are a code in words.
func Words(code int) string {
	d := rules{}.Decline(code)
	return d.Title + ": " + strings.ToLower(d.Means[:1]) + strings.TrimSuffix(d.Means[1:], ".")
}

// Bits of a quality (IEC 61850-7-3, clause 6.2), the first bit of the wire being bit 0.
const (
	bitValidity0 = iota // with the next: 00 good, 01 invalid, 10 reserved, 11 questionable
	bitValidity1
	bitOverflow
	bitOutOfRange
	bitBadReference
	bitOscillatory
	bitFailure
	bitOldData
	bitInconsistent
	bitInaccurate
	bitSubstituted
	bitTest
	bitOperatorBlocked
	qualityBits
)

// Quality is a quality as the wire has it, bit 0 the first.
type Quality uint16

func (q Quality) has(bit int) bool { return q&(1<<bit) != 0 }

// details are what of a quality says why.
var details = []struct {
	bit   int
	words string
}{{bitOverflow, "overflow"}, {bitOutOfRange, "out of range"}, {bitBadReference, "bad reference"},
	{bitOscillatory, "oscillatory"},
	{bitFailure, "failure"}, {bitOldData, "old data"}, {bitInconsistent, "inconsistent"}, {bitInaccurate, "inaccurate"}}

// Means is what a quality makes of a value, and why.
func (q Quality) Means() (value.Quality, string) {
	var said []string
	for _, d := range details {
		if q.has(d.bit) {
			said = append(said, d.words)
		}
	}
	validity := value.Good
	switch first, second := q.has(bitValidity0), q.has(bitValidity1); {
	case !first && second:
		validity = value.Bad
		said = append([]string{"invalid"}, said...)
	case first:
		validity = value.Doubtful
		said = append([]string{"questionable"}, said...)
	}
	for _, b := range []struct {
		bit   int
		words string
	}{{bitSubstituted, "substituted"}, {bitTest, "test"}, {bitOperatorBlocked, "blocked by the operator"}} {
		if q.has(b.bit) {
			said = append(said, b.words)
		}
	}
	if q.has(bitTest) && validity == value.Good {
		validity = value.Doubtful // it is not for operation
	}
	if len(said) == 0 {
		return validity, ""
	}
	return validity, "the server says: " + strings.Join(said, ", ")
}

// QualityOf is the quality of a value that Ferry has so, for a reason in words.
func QualityOf(q value.Quality, reason string) (out Quality) {
	set := func(bits ...int) {
		for _, b := range bits {
			out |= 1 << b
		}
	}
	switch q {
	case value.Bad, value.NotRead:
		set(bitValidity1)
	case value.Doubtful:
		set(bitValidity0, bitValidity1)
	}
	for words, bit := range map[string]int{"over its range": bitOverflow, "out of range": bitOutOfRange,
		"reference is wrong": bitBadReference,
		"chatters":           bitOscillatory, "not online": bitFailure, "is lost": bitOldData, "no sign of life": bitOldData,
		"forced": bitSubstituted,
		"old":    bitOldData} {
		if strings.Contains(reason, words) {
			set(bit)
		}
	}
	return out
}
