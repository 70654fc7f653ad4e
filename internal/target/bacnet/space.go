// Package bacnet answers as a device of BACnet/IP: its objects with their properties, commands with
// priorities, and reports of changes.
package bacnet

import (
	"math"
	"slices"

	family "ferry/internal/core/family/bacnet"
	wire "ferry/internal/wire/bacnet"
)

// Object is what the device has, beside itself.
type Object struct {
	ID                wire.ObjectID
	Name, Description string
	Unit              family.Unit
	// States are the names of its values: of a multi-state object from 1 on, of a binary one off and on.
	States []string
	// Low, High and Step bound an analogue value and say by how much it has to move to be told; NaN and
	// 0 for not said.
	Low, High, Step float64
	// Commanded is set where clients write it, with priorities.
	Commanded bool
	// Value is what stands there; Null where nothing does yet. Flags are its status, Reliability why it
	// is not to be relied on, 0 for nothing.
	Value       wire.Value
	Flags       uint8
	Reliability uint32
	// commands are those of the priorities, Null for none; standing is what counts where there is none.
	commands [wire.LastPriority]wire.Value
	standing wire.Value
}

// Status flags (clause 21, BACnetStatusFlags), the first the lowest.
const (
	InAlarm      = 1 << 0
	Fault        = 1 << 1
	Overridden   = 1 << 2
	OutOfService = 1 << 3
	flagCount    = 4
)

// Reliabilities (clause 21, BACnetReliability).
const (
	NoFault              = 0
	NoSensor             = 1
	OverRange            = 2
	UnderRange           = 3
	UnreliableOther      = 7
	ConfigurationError   = 10
	CommunicationFailure = 12
)

// Errors that are answered (clause 18).
var (
	unknownObject   = &wire.Failure{Class: classObject, Code: 31}
	unknownProperty = &wire.Failure{Class: classProperty, Code: 32}
	notAnArray      = &wire.Failure{Class: classProperty, Code: 50}
	noSuchElement   = &wire.Failure{Class: classProperty, Code: 42}
	writeDenied     = &wire.Failure{Class: classProperty, Code: 40}
	wrongType       = &wire.Failure{Class: classProperty, Code: 9}
	outOfRange      = &wire.Failure{Class: classProperty, Code: 37}
	notAList        = &wire.Failure{Class: classProperty, Code: 22}
	noSpace         = &wire.Failure{Class: classResources, Code: 18}
)

// Classes of errors (clause 18.1).
const (
	classDevice    = 0
	classObject    = 1
	classProperty  = 2
	classResources = 3
	classServices  = 5
)

// Device is the device itself.
type Device struct {
	Instance                                  uint32
	Name, Description, Vendor, Model, Version string
	VendorID                                  uint32
}

// space is what is answered with. The server's lock guards it.
type space struct {
	device  Device
	objects []*Object
	by      map[wire.ObjectID]*Object
	named   map[string]*Object
	changed uint64 // the revision of the database
}

func newSpace(d Device, objects []*Object, revision uint64) *space {
	s := &space{device: d, objects: objects, by: make(map[wire.ObjectID]*Object, len(objects)), named: make(map[string]*Object, len(objects)),
		changed: revision}
	for _, o := range objects {
		s.by[o.ID], s.named[o.Name] = o, o
		o.standing = o.Value
	}
	return s
}

func (s *space) id() wire.ObjectID { return wire.ID(uint16(family.Device), s.device.Instance) }

// ofDevice and ofObject are the properties that are there, in the order in which they are told.
var ofDevice = []family.Property{family.ObjectIdentifier, family.ObjectName, family.ObjectType, systemStatus, family.VendorName,
	vendorIdentifier, family.ModelName, firmware, application, protocolVersion, protocolRevision, services, objectTypes, family.ObjectList,
	family.MaxOctets, family.Segmentation, maxSegments, segmentTimeout, timeout, retries, bindings, databaseRevision, family.Description}

// Properties of devices that only a device has.
const (
	systemStatus     family.Property = 112
	vendorIdentifier family.Property = 120
	firmware         family.Property = 44
	application      family.Property = 12
	protocolVersion  family.Property = 98
	protocolRevision family.Property = 139
	services         family.Property = 97
	objectTypes      family.Property = 96
	maxSegments      family.Property = 167
	segmentTimeout   family.Property = 10
	timeout          family.Property = 11
	retries          family.Property = 73
	bindings         family.Property = 30
	databaseRevision family.Property = 155
	polarity         family.Property = 84
)

// properties are those of an object; required says which the standard wants of it.
func (o *Object) properties() (list []family.Property, optional []family.Property) {
	list = []family.Property{family.ObjectIdentifier, family.ObjectName, family.ObjectType, family.PresentValue, family.StatusFlags,
		family.EventState, family.OutOfService}
	optional = []family.Property{family.Description, family.Reliability}
	switch kind := family.Type(o.ID.Type()); kind {
	case family.AnalogInput, family.AnalogOutput, family.AnalogValue, family.LargeAnalogValue, family.Accumulator, family.IntegerValue,
		family.PositiveIntValue, family.PulseConverter:
		list = append(list, family.Units)
		if !math.IsNaN(o.Low) {
			optional = append(optional, family.MinPresValue)
		}
		if !math.IsNaN(o.High) {
			optional = append(optional, family.MaxPresValue)
		}
		if kind != family.Accumulator {
			optional = append(optional, family.CovIncrement)
		}
	case family.BinaryInput, family.BinaryOutput, family.BinaryValue:
		if kind != family.BinaryValue {
			list = append(list, polarity)
		}
		if len(o.States) == 2 {
			optional = append(optional, family.InactiveText, family.ActiveText)
		}
	case family.MultiInput, family.MultiOutput, family.MultiValue:
		list = append(list, family.NumberOfStates)
		if len(o.States) > 0 {
			optional = append(optional, family.StateText)
		}
	}
	if o.Commanded {
		list = append(list, family.PriorityArray, family.RelinquishDefault)
	}
	return list, optional
}

// read reads a property, or an element of one.
func (s *space) read(ref wire.Reference) ([]wire.Value, *wire.Failure) {
	var values []wire.Value
	var array bool
	var failed *wire.Failure
	switch o := s.by[ref.Object]; {
	case ref.Object == s.id() || ref.Object == wire.ID(uint16(family.Device), wire.AnyInstance):
		values, array, failed = s.ofDevice(family.Property(ref.Property))
	case o == nil:
		return nil, unknownObject
	default:
		values, array, failed = o.property(family.Property(ref.Property))
	}
	switch {
	case failed != nil || ref.Index == wire.Whole:
		return values, failed
	case !array:
		return nil, notAnArray
	case ref.Index == 0:
		return []wire.Value{wire.Unsigned(uint64(len(values)))}, nil
	case ref.Index > int64(len(values)):
		return nil, noSuchElement
	}
	return values[ref.Index-1 : ref.Index], nil
}

// expand lists the properties that all, required and optional stand for.
func (s *space) expand(ref wire.Reference) []wire.Reference {
	which := family.Property(ref.Property)
	if which != family.AllProperties && which != family.RequiredOnly && which != family.OptionalOnly {
		return []wire.Reference{ref}
	}
	var required, optional []family.Property
	if o := s.by[ref.Object]; o != nil {
		required, optional = o.properties()
	} else if ref.Object == s.id() || ref.Object == wire.ID(uint16(family.Device), wire.AnyInstance) {
		required = ofDevice
	} else {
		return []wire.Reference{ref} // which is unknown
	}
	list := required
	switch which {
	case family.AllProperties:
		list = slices.Concat(required, optional)
	case family.OptionalOnly:
		list = optional
	}
	refs := make([]wire.Reference, len(list))
	for i, p := range list {
		refs[i] = wire.Reference{Object: ref.Object, Property: uint32(p), Index: wire.Whole}
	}
	return refs
}

func one(v wire.Value) ([]wire.Value, bool, *wire.Failure) { return []wire.Value{v}, false, nil }

// Bits of the services that are answered (clause 21, BACnetServicesSupported).
var servicesAnswered = []int{5, 12, 14, 15, 26, 33, 34}

// typesAnswered are the types of objects that there may be.
var typesAnswered = []family.Type{family.AnalogInput, family.AnalogOutput, family.AnalogValue, family.BinaryInput, family.BinaryOutput,
	family.BinaryValue, family.Device, family.MultiInput, family.MultiOutput, family.MultiValue, family.Accumulator, family.CharacterValue,
	family.IntegerValue, family.LargeAnalogValue, family.PositiveIntValue}

const (
	serviceBits   = 41
	typeBits      = 57
	revisionHere  = 16
	segmentsHere  = 64
	segmentMs     = 2000
	answerMs      = 3000
	retriesHere   = 3
	versionHere   = 1
	operational   = 0
	normalState   = 0
	normalPolar   = 0
	offInBinary   = 0
	multiStateLow = 1
)

func (s *space) ofDevice(p family.Property) ([]wire.Value, bool, *wire.Failure) {
	d := &s.device
	switch p {
	case family.ObjectIdentifier:
		return one(wire.Object(s.id()))
	case family.ObjectName:
		return one(wire.Text(d.Name))
	case family.ObjectType:
		return one(wire.Enumerated(uint64(family.Device)))
	case family.Description:
		return one(wire.Text(d.Description))
	case systemStatus:
		return one(wire.Enumerated(operational))
	case family.VendorName:
		return one(wire.Text(d.Vendor))
	case vendorIdentifier:
		return one(wire.Unsigned(uint64(d.VendorID)))
	case family.ModelName:
		return one(wire.Text(d.Model))
	case firmware, application:
		return one(wire.Text(d.Version))
	case protocolVersion:
		return one(wire.Unsigned(versionHere))
	case protocolRevision:
		return one(wire.Unsigned(revisionHere))
	case services:
		bits := uint64(0)
		for _, b := range servicesAnswered {
			bits |= 1 << b
		}
		return one(wire.Bits(bits, serviceBits))
	case objectTypes:
		bits := uint64(0)
		for _, t := range typesAnswered {
			bits |= 1 << t
		}
		return one(wire.Bits(bits, typeBits))
	case family.ObjectList:
		list := make([]wire.Value, 0, len(s.objects)+1)
		list = append(list, wire.Object(s.id()))
		for _, o := range s.objects {
			list = append(list, wire.Object(o.ID))
		}
		return list, true, nil
	case family.MaxOctets:
		return one(wire.Unsigned(wire.MostOctets))
	case family.Segmentation:
		return one(wire.Enumerated(uint64(wire.SegmentsSent)))
	case maxSegments:
		return one(wire.Unsigned(segmentsHere))
	case segmentTimeout:
		return one(wire.Unsigned(segmentMs))
	case timeout:
		return one(wire.Unsigned(answerMs))
	case retries:
		return one(wire.Unsigned(retriesHere))
	case bindings:
		return nil, false, nil
	case databaseRevision:
		return one(wire.Unsigned(s.changed))
	case family.PropertyList:
		return listed(ofDevice)
	}
	return nil, false, unknownProperty
}

// listed is the property that lists the others (clause 12.1.1.4.1): without the first three, and itself.
func listed(list []family.Property) ([]wire.Value, bool, *wire.Failure) {
	var values []wire.Value
	for _, p := range list {
		if p != family.ObjectIdentifier && p != family.ObjectName && p != family.ObjectType {
			values = append(values, wire.Enumerated(uint64(p)))
		}
	}
	return values, true, nil
}

func (o *Object) property(p family.Property) ([]wire.Value, bool, *wire.Failure) {
	required, optional := o.properties()
	if p != family.PropertyList && !slices.Contains(required, p) && !slices.Contains(optional, p) {
		return nil, false, unknownProperty
	}
	switch p {
	case family.ObjectIdentifier:
		return one(wire.Object(o.ID))
	case family.ObjectName:
		return one(wire.Text(o.Name))
	case family.ObjectType:
		return one(wire.Enumerated(uint64(o.ID.Type())))
	case family.Description:
		return one(wire.Text(o.Description))
	case family.PresentValue:
		return one(o.present())
	case family.StatusFlags:
		return one(wire.Bits(uint64(o.Flags), flagCount))
	case family.EventState:
		return one(wire.Enumerated(normalState))
	case family.OutOfService:
		return one(wire.Boolean(o.Flags&OutOfService != 0))
	case family.Reliability:
		return one(wire.Enumerated(uint64(o.Reliability)))
	case family.Units:
		return one(wire.Enumerated(uint64(o.Unit)))
	case family.MinPresValue:
		return one(o.number(o.Low))
	case family.MaxPresValue:
		return one(o.number(o.High))
	case family.CovIncrement:
		return one(o.number(o.Step))
	case polarity:
		return one(wire.Enumerated(normalPolar))
	case family.InactiveText:
		return one(wire.Text(o.States[0]))
	case family.ActiveText:
		return one(wire.Text(o.States[1]))
	case family.NumberOfStates:
		return one(wire.Unsigned(uint64(max(1, len(o.States)))))
	case family.StateText:
		list := make([]wire.Value, len(o.States))
		for i, text := range o.States {
			list[i] = wire.Text(text)
		}
		return list, true, nil
	case family.PriorityArray:
		return o.commands[:], true, nil
	case family.RelinquishDefault:
		v := o.standing
		if v.Tag == wire.TagNull {
			v = o.nothing()
		}
		return one(v)
	case family.PropertyList:
		return listed(slices.Concat(required, optional))
	}
	return nil, false, unknownProperty
}

// present is the present value; where nothing stands there yet, one of its type, which the reliability
// says is none.
func (o *Object) present() wire.Value {
	if o.Commanded {
		for i := range o.commands {
			if o.commands[i].Tag != wire.TagNull {
				return o.commands[i]
			}
		}
	}
	if o.Value.Tag == wire.TagNull {
		return o.nothing()
	}
	return o.Value
}

// nothing is a value of its type.
func (o *Object) nothing() wire.Value {
	switch family.Type(o.ID.Type()) {
	case family.BinaryInput, family.BinaryOutput, family.BinaryValue:
		return wire.Enumerated(offInBinary)
	case family.MultiInput, family.MultiOutput, family.MultiValue:
		return wire.Unsigned(multiStateLow)
	case family.CharacterValue:
		return wire.Text("")
	}
	return o.number(0)
}

// number is a number in the type of its present value.
func (o *Object) number(f float64) wire.Value {
	switch family.Type(o.ID.Type()) {
	case family.LargeAnalogValue:
		return wire.Double(f)
	case family.IntegerValue:
		return wire.Signed(int64(min(max(f, math.MinInt32), math.MaxInt32)))
	case family.Accumulator, family.PositiveIntValue:
		return wire.Unsigned(uint64(min(max(f, 0), math.MaxUint32)))
	}
	return wire.Real(f)
}

// fits says why a value cannot stand in an object; nil where it can.
func (o *Object) fits(v *wire.Value) *wire.Failure {
	if none := o.nothing(); v.Constructed || v.Opaque || v.Tag != none.Tag {
		return wrongType
	}
	switch family.Type(o.ID.Type()) {
	case family.BinaryOutput, family.BinaryValue, family.BinaryInput:
		if v.Uint > 1 {
			return outOfRange
		}
	case family.MultiOutput, family.MultiValue, family.MultiInput:
		if v.Uint < 1 || v.Uint > uint64(max(1, len(o.States))) {
			return outOfRange
		}
	default:
		f := v.Float
		switch v.Tag {
		case wire.TagUnsigned:
			f = float64(v.Uint)
		case wire.TagSigned:
			f = float64(v.Int)
		case wire.TagText:
			return nil
		}
		if math.IsNaN(f) || !math.IsNaN(o.Low) && f < o.Low || !math.IsNaN(o.High) && f > o.High {
			return outOfRange
		}
	}
	return nil
}
