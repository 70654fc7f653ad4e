package dnp3

import (
	"fmt"
	"strings"

	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// A code of a refusal is an internal indication of the second octet (IEEE 1815, clause 4.5), with
// codeIndicated, or the status of a command (clause 11.8.1), with codeOfStatus.
const (
	codeIndicated = 0x100
	codeOfStatus  = 0x200
)

// Internal indications that refuse something, as bits of the second octet.
const (
	IndNoFunction = 0x01
	IndNoObject   = 0x02
	IndParameter  = 0x04
)

// Indicated is the code of a refusal by the second octet of the internal indications, StatusCode
// that of a command by its status.
func Indicated(second byte) int {
	return codeIndicated | int(second&(IndNoFunction|IndNoObject|IndParameter))
}

// StatusCode is as Indicated.
func StatusCode(status byte) int { return codeOfStatus | int(status) }

// statuses are those of commands (clause 11.8.1, table of the status field).
var statuses = map[byte]protocol.Declined{
	1: {Title: "timeout", Means: "The command came too long after its selection.",
		Causes: "Look how long the outstation keeps a selection, and how long the way there takes."},
	2: {Title: "no select", Means: "The command was not selected before, or another was.",
		Causes: "Set commands to be selected first, or look whether another master operates the same output."},
	3: {Title: "format error", Means: "The command is none that the outstation reads.",
		Causes: "Compare the operation, the times and the kind of object with the device's profile."},
	4: {Title: "not supported", Means: "The outstation does not operate this output so.",
		Causes: "Compare with its profile whether the output is latched, pulsed, or tripped and closed, and whether it is there."},
	5: {Title: "already active", Means: "The output is being operated already.",
		Causes: "Wait until it is done. Operate it at a slower pace.", Finding: "busy"},
	6: {Title: "hardware error", Means: "The output cannot be operated, for a fault of the device.",
		Causes: "Look at the device."},
	7: {Title: "local", Means: "The outstation is operated on the spot.",
		Causes: "Set the switch at the device from local to remote.", Access: []string{"remote", "mode"}},
	8: {Title: "too many operations", Means: "The outstation carries out no more commands at once.",
		Causes: "Operate fewer at once.", Finding: "busy"},
	9: {Title: "not authorized", Means: "This master may not operate it.",
		Causes: "Look at the rights of the master there.", Access: []string{"remote"}},
	10: {Title: "automation inhibit", Means: "A rule of the outstation's own holds the command back.",
		Causes: "Look at the logic that locks the output."},
	11: {Title: "processing limited", Means: "The outstation has no time for it.", Causes: "Try again.", Finding: "busy"},
	12: {Title: "out of range", Means: "The value is outside what the output takes.",
		Causes: "Compare the range with the device's profile.", Finding: "exception-value"},
	13: {Title: "downstream local", Means: "What is behind the outstation is operated on the spot.",
		Causes: "Set the switch there from local to remote.", Beyond: true},
	14: {Title: "already complete", Means: "It is so already.", Causes: "There is nothing to do."},
	15: {Title: "blocked", Means: "The command is blocked.", Causes: "Look at the interlocks of the outstation."},
	16: {Title: "cancelled", Means: "The command was cancelled.", Causes: "Look who cancelled it."},
	17: {Title: "blocked by another master", Means: "Another master holds the output.",
		Causes: "Look which master has it."},
	18: {Title: "downstream fail", Means: "What is behind the outstation does not answer.",
		Causes: "Look at the device behind it.", Beyond: true,
		Unsure: true},
	126: {Title: "non-participating", Means: "The outstation only repeats the command.",
		Causes: "Ask the outstation that has the output."},
	127: {Title: "undefined", Means: "The command failed for a reason that has no code.",
		Causes: "Look into the log of the outstation.", Unsure: true},
}

// indicated are the internal indications that refuse something (clause 4.5.8 to 4.5.10).
var indicated = map[byte]protocol.Declined{
	IndNoFunction: {Title: "function not supported", Means: "The outstation does not know what it is asked to do.",
		Causes: "Compare with the device's profile which functions it has.", Finding: "exception-function"},
	IndNoObject: {Title: "object unknown", Means: "The outstation has no such objects.",
		Causes: "Compare kind and index with its list of points.", Finding: "exception-address"},
	IndParameter: {Title: "parameter error",
		Means:  "The outstation does not take a range, an index or a value in the question.",
		Causes: "Compare the indexes with its list of points: they begin at 0.", Finding: "exception-address"},
}

// Decline explains a code.
func (rules) Decline(code int) protocol.Declined {
	if code&codeOfStatus != 0 {
		status := byte(code)
		if d, ok := statuses[status]; ok {
			d.Title = fmt.Sprintf("status %d, %s", status, d.Title)
			return d
		}
		return protocol.Declined{Title: fmt.Sprintf("status %d", status),
			Means:  "The outstation refuses the command by a status of its own.",
			Causes: "Look the status up in the device's manual.", Unsure: true}
	}
	for _, bit := range []byte{IndNoFunction, IndNoObject, IndParameter} {
		if code&int(bit) != 0 {
			return indicated[bit]
		}
	}
	return protocol.Declined{Title: "refused", Means: "The outstation refuses without saying why.",
		Causes: "Compare the question with the device's profile.", Unsure: true}
}

// Words are a code in words: "status 7, local: the outstation is operated on the spot".
func Words(code int) string {
	d := rules{}.Decline(code)
	return d.Title + ": " + strings.ToLower(d.Means[:1]) + strings.TrimSuffix(d.Means[1:], ".")
}

// Flags of objects (clause 11.6), the upper two by the kind of object.
const (
	FlagOnline   = 0x01
	FlagRestart  = 0x02
	FlagCommLost = 0x04
	FlagRemote   = 0x08 // forced there
	FlagLocal    = 0x10 // forced at the outstation
	flagFifth    = 0x20
	flagSixth    = 0x40
)

// QualityOf is what the flags of an object make of its value, and why: an object that is not online
// has none, one whose device is lost has its last.
func QualityOf(k Kind, flags byte) (q value.Quality, reason string) {
	var bad, doubt, notes []string
	if flags&FlagCommLost != 0 {
		bad = append(bad, "communication with what is behind it is lost")
	}
	if flags&FlagOnline == 0 {
		bad = append(bad, "it is not online")
	}
	if flags&FlagRestart != 0 {
		doubt = append(doubt, "it was not updated since a restart")
	}
	switch {
	case k == BinaryInput || k == DoubleInput:
		if flags&flagFifth != 0 {
			doubt = append(doubt, "it chatters")
		}
	case k == AnalogInput || k == AnalogOutput:
		if flags&flagFifth != 0 {
			doubt = append(doubt, "it is over its range")
		}
		if flags&flagSixth != 0 {
			doubt = append(doubt, "its reference is wrong")
		}
	case k == Counter || k == FrozenCounter:
		if flags&flagSixth != 0 {
			doubt = append(doubt, "it did not go on from its last count")
		}
	}
	if flags&FlagRemote != 0 {
		notes = append(notes, "forced at the device behind it")
	}
	if flags&FlagLocal != 0 {
		notes = append(notes, "forced at the outstation")
	}
	switch {
	case len(bad) > 0:
		return value.Bad, "the outstation says: " + strings.Join(append(bad, doubt...), ", ")
	case len(doubt) > 0:
		return value.Doubtful, "the outstation says: " + strings.Join(append(doubt, notes...), ", ")
	}
	return value.Good, strings.Join(notes, ", ")
}

// FlagWords are the flags of an object in words, without its state.
func FlagWords(k Kind, flags byte) string {
	names := []struct {
		bit  byte
		name string
	}{{FlagOnline, "online"}, {FlagRestart, "restart"}, {FlagCommLost, "communication lost"},
		{FlagRemote, "remote forced"},
		{FlagLocal, "local forced"}}
	var set []string
	for _, n := range names {
		if flags&n.bit != 0 {
			set = append(set, n.name)
		}
	}
	upper := map[byte]string{}
	switch k {
	case BinaryInput, DoubleInput:
		upper[flagFifth] = "chatter filter"
	case AnalogInput, AnalogOutput:
		upper[flagFifth], upper[flagSixth] = "over range", "reference error"
	case Counter, FrozenCounter:
		upper[flagFifth], upper[flagSixth] = "rollover", "discontinuity"
	}
	for _, bit := range []byte{flagFifth, flagSixth} {
		if name := upper[bit]; name != "" && flags&bit != 0 {
			set = append(set, name)
		}
	}
	if len(set) == 0 {
		return "none"
	}
	return strings.Join(set, ", ")
}

// Indications lists what the internal indications say, the first octet in the lower bits (clause 4.5).
func Indications(bits uint16) (list []string) {
	for i, name := range [...]string{"broadcast received", "class 1 events", "class 2 events", "class 3 events",
		"needs the time",
		"local control", "device trouble", "device restarted", "function not supported", "object unknown", "parameter error",
		"event buffer overflow", "already executing", "configuration corrupt"} {
		if bits&(1<<i) != 0 {
			list = append(list, name)
		}
	}
	return list
}
