// Package bacnet has the rules of BACnet/IP (ISO 16484-5): how objects and their properties are named, what
// they hold, and the units of the standard.
package bacnet

import (
	"strconv"
	"strings"

	"ferry/internal/core/value"
)

// Type is a type of object, by its number (clause 21, BACnetObjectType).
type Type uint16

// Types of objects that have values which points are made of, and the device.
const (
	AnalogInput      Type = 0
	AnalogOutput     Type = 1
	AnalogValue      Type = 2
	BinaryInput      Type = 3
	BinaryOutput     Type = 4
	BinaryValue      Type = 5
	Device           Type = 8
	MultiInput       Type = 13
	MultiOutput      Type = 14
	MultiValue       Type = 19
	Accumulator      Type = 23
	PulseConverter   Type = 24
	CharacterValue   Type = 40
	IntegerValue     Type = 45
	LargeAnalogValue Type = 46
	PositiveIntValue Type = 48
	// NoType is none of them.
	NoType   Type = 1<<10 - 1
	mostType      = NoType
)

// types are their names in the standard, how lists call them in short, what their present value holds, and
// whether it is commanded with priorities.
var types = map[Type]struct {
	name, short string
	holds       value.Type
	commanded   bool
}{
	AnalogInput:  {"analog-input", "AI", value.TypeFloat32, false},
	AnalogOutput: {"analog-output", "AO", value.TypeFloat32, true},
	AnalogValue:  {"analog-value", "AV", value.TypeFloat32, true},
	BinaryInput:  {"binary-input", "BI", value.TypeBool, false},
	BinaryOutput: {"binary-output", "BO", value.TypeBool, true},
	BinaryValue:  {"binary-value", "BV", value.TypeBool, true},
	6:            {name: "calendar", short: "CAL", holds: value.TypeBool},
	7:            {name: "command", short: "CMD", holds: value.TypeUint32},
	Device:       {name: "device", short: "DEV"}, 9: {name: "event-enrollment", short: "EE"}, 10: {name: "file", short: "FILE"},
	11: {name: "group", short: "GRP"}, 12: {name: "loop", short: "LP", holds: value.TypeFloat32},
	MultiInput:     {"multi-state-input", "MI", value.TypeUint32, false},
	MultiOutput:    {"multi-state-output", "MO", value.TypeUint32, true},
	15:             {name: "notification-class", short: "NC"},
	16:             {name: "program", short: "PR"},
	17:             {name: "schedule", short: "SCH"},
	18:             {name: "averaging", short: "AVG"},
	MultiValue:     {"multi-state-value", "MV", value.TypeUint32, true},
	20:             {name: "trend-log", short: "TL"},
	21:             {name: "life-safety-point", short: "LSP", holds: value.TypeUint32},
	22:             {name: "life-safety-zone", short: "LSZ", holds: value.TypeUint32},
	Accumulator:    {"accumulator", "ACC", value.TypeUint32, false},
	PulseConverter: {"pulse-converter", "PC", value.TypeFloat32, false},
	25:             {name: "event-log", short: "EL"},
	26:             {name: "global-group", short: "GG"},
	27:             {name: "trend-log-multiple", short: "TLM"},
	28:             {name: "load-control", short: "LC", holds: value.TypeUint32},
	29:             {name: "structured-view", short: "SV"},
	30:             {name: "access-door", short: "DOOR", holds: value.TypeUint32},
	39:             {name: "bitstring-value", short: "BSV"},
	CharacterValue: {"characterstring-value", "CSV", value.TypeText, true},
	42:             {name: "date-value", short: "DV"},
	44:             {name: "datetime-value", short: "DTV"}, IntegerValue: {"integer-value", "IV", value.TypeInt32, true},
	LargeAnalogValue: {"large-analog-value", "LAV", value.TypeFloat64, true},
	47:               {name: "octetstring-value", short: "OSV"},
	PositiveIntValue: {"positive-integer-value", "PIV", value.TypeUint32, true},
	50:               {name: "time-value", short: "TV"},
	51:               {name: "notification-forwarder", short: "NF"},
	52:               {name: "alert-enrollment", short: "AE"},
	53:               {name: "channel", short: "CH"},
	54:               {name: "lighting-output", short: "LO", holds: value.TypeFloat32},
	55:               {name: "binary-lighting-output", short: "BLO", holds: value.TypeUint32},
	56:               {name: "network-port", short: "NP"},
}

// Name is the type as the standard writes it; of one that it has not, its number.
func (t Type) Name() string {
	if of, known := types[t]; known {
		return of.name
	}
	return strconv.Itoa(int(t))
}

// Short is the type as lists write it.
func (t Type) Short() string {
	if of, known := types[t]; known {
		return of.short
	}
	return strconv.Itoa(int(t)) + ":"
}

// Holds is what its present value is; empty where it has none, or nobody knows.
func (t Type) Holds() value.Type { return types[t].holds }

// Commanded reports whether its present value may have an array of priorities.
func (t Type) Commanded() bool { return types[t].commanded }

// typesCalled are types by what they are called, without anything between letters.
var typesCalled = func() map[string]Type {
	all := map[string]Type{"msi": MultiInput, "mso": MultiOutput, "msv": MultiValue, "multistateinput": MultiInput,
		"multistateoutput": MultiOutput, "multistatevalue": MultiValue, "analoginputs": AnalogInput,
		"accumulators": Accumulator}
	for t, of := range types {
		all[squeeze(of.name)], all[squeeze(of.short)] = t, t
	}
	return all
}()

var squeezer = strings.NewReplacer(" ", "", "-", "", "_", "")

func squeeze(text string) string { return squeezer.Replace(strings.ToLower(text)) }

// TypeCalled is the type that people call so, or that has such a number.
func TypeCalled(text string) (Type, bool) {
	if t, known := typesCalled[squeeze(text)]; known {
		return t, true
	}
	n, err := strconv.ParseUint(strings.TrimSpace(text), 10, 16)
	return Type(n), err == nil && n <= uint64(mostType)
}

// Property is a property of an object (clause 21, BACnetPropertyIdentifier).
type Property uint32

// Properties that Ferry knows by name.
const (
	ActiveText        Property = 4
	AllProperties     Property = 8
	CovIncrement      Property = 22
	DatabaseRevision  Property = 155
	Description       Property = 28
	EventState        Property = 36
	InactiveText      Property = 46
	MaxOctets         Property = 62
	MaxPresValue      Property = 65
	MinPresValue      Property = 69
	ModelName         Property = 70
	NumberOfStates    Property = 74
	ObjectIdentifier  Property = 75
	ObjectList        Property = 76
	ObjectName        Property = 77
	ObjectType        Property = 79
	OptionalOnly      Property = 80
	OutOfService      Property = 81
	PresentValue      Property = 85
	PriorityArray     Property = 87
	Reliability       Property = 103
	RelinquishDefault Property = 104
	RequiredOnly      Property = 105
	Segmentation      Property = 107
	StateText         Property = 110
	StatusFlags       Property = 111
	Units             Property = 117
	VendorName        Property = 121
	PropertyList      Property = 371
	mostProperty               = 1<<22 - 1
)

// properties are their names in the standard.
var properties = map[Property]string{0: "acked-transitions", 1: "ack-required", ActiveText: "active-text",
	5: "active-vt-sessions", 6: "alarm-value", 7: "alarm-values", AllProperties: "all", 10: "apdu-segment-timeout",
	11: "apdu-timeout", 12: "application-software-version", 15: "change-of-state-count", 16: "change-of-state-time",
	17: "notification-class", CovIncrement: "cov-increment", 24: "daylight-savings-status", 25: "deadband",
	Description: "description", 30: "device-address-binding", 31: "device-type", EventState: "event-state",
	35: "event-enable", 40: "feedback-value", 44: "firmware-revision", 45: "high-limit", InactiveText: "inactive-text",
	52: "limit-enable", 56: "local-date", 57: "local-time", 58: "location", 59: "low-limit",
	MaxOctets: "max-apdu-length-accepted", MaxPresValue: "max-pres-value", 66: "minimum-off-time",
	67: "minimum-on-time", MinPresValue: "min-pres-value", ModelName: "model-name", 72: "notify-type",
	73: "number-of-apdu-retries", NumberOfStates: "number-of-states", ObjectIdentifier: "object-identifier",
	ObjectList: "object-list", ObjectName: "object-name", ObjectType: "object-type", OptionalOnly: "optional",
	OutOfService: "out-of-service", 84: "polarity", PresentValue: "present-value", PriorityArray: "priority-array",
	96: "protocol-object-types-supported", 97: "protocol-services-supported", 98: "protocol-version",
	Reliability: "reliability", RelinquishDefault: "relinquish-default", RequiredOnly: "required", 106: "resolution",
	Segmentation: "segmentation-supported", StateText: "state-text", StatusFlags: "status-flags", 112: "system-status",
	113: "time-delay", Units: "units", 118: "update-interval", 119: "utc-offset", 120: "vendor-identifier",
	VendorName: "vendor-name", 123: "weekly-schedule", 130: "event-time-stamps", 139: "protocol-revision",
	152: "active-cov-subscriptions", 155: "database-revision", 167: "max-segments-accepted", 168: "profile-name",
	187: "scale", 190: "prescale", PropertyList: "property-list"}

// propertiesCalled are properties by their names.
var propertiesCalled = func() map[string]Property {
	all := map[string]Property{}
	for p, name := range properties {
		all[squeeze(name)] = p
	}
	return all
}()

// Name is the property as the standard writes it; of one that is not known, its number.
func (p Property) Name() string {
	if name, known := properties[p]; known {
		return name
	}
	return strconv.FormatUint(uint64(p), 10)
}

// PropertyCalled is the property that people call so, or that has such a number.
func PropertyCalled(text string) (Property, bool) {
	if p, known := propertiesCalled[squeeze(text)]; known {
		return p, true
	}
	n, err := strconv.ParseUint(strings.TrimSpace(text), 10, 32)
	return Property(n), err == nil && n <= mostProperty
}
