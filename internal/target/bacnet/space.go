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
	// Value is what stands there, where clients command it what does while none of them does; Null where
	// nothing does yet. Flags are its status, Reliability why it is not to be relied on, 0 for nothing.
	Value       wire.Value
	Flags       uint8
	Reliability uint32
	// commands are those of the priorities, Null for none.
	commands [wire.LastPriority]wire.Value
	mark     any // of the value
	// differs is set where what came from behind it since it was commanded is another value.
	differs bool
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
	MultiStateFault      = 9
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
	// NoMultiple, NoReports and NoParts are set where it knows no ReadPropertyMultiple, tells of no changes, or
	// sends nothing in parts; AllOrNone where it refuses a question for several properties for one of them.
	// MostOctets is the longest message that it takes, 0 for what the medium carries.
	NoMultiple, NoReports, NoParts, AllOrNone bool
	MostOctets                                int
}

func (d *Device) most() int {
	if d.MostOctets > 0 {
		return min(d.MostOctets, wire.MostOctets)
	}
	return wire.MostOctets
}

func (d *Device) segmentation() wire.Segmentation {
	if d.NoParts {
		return wire.SegmentsNot
	}
	return wire.SegmentsSent
}

// lacks reports whether the device does not know a service.
func (d *Device) lacks(service uint8) bool {
	return d.NoMultiple && service == wire.ReadPropertyMultiple || d.NoReports && service == wire.SubscribeCOV
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
	s := &space{device: d, objects: objects, by: make(map[wire.ObjectID]*Object, len(objects)),
		named: make(map[string]*Object, len(objects)), changed: revision}
	for _, o := range objects {
		s.by[o.ID], s.named[o.Name] = o, o
	}
	return s
}

func (s *space) id() wire.ObjectID { return wire.ID(uint16(family.Device), s.device.Instance) }

// ofDevice and ofObject are the properties that are there, in the order in which they are told.
var ofDevice = []family.Property{family.ObjectIdentifier, family.ObjectName, family.ObjectType, systemStatus,
	family.VendorName, vendorIdentifier, family.ModelName, firmware, application, protocolVersion, protocolRevision,
	services, objectTypes, family.ObjectList, family.MaxOctets, family.Segmentation, maxSegments, segmentTimeout,
	timeout, retries, bindings, family.DatabaseRevision, family.Description}

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
	polarity         family.Property = 84
)

// properties are those of an object; required says which the standard wants of it.
func (o *Object) properties() (list []family.Property, optional []family.Property) {
	list = []family.Property{family.ObjectIdentifier, family.ObjectName, family.ObjectType, family.PresentValue,
		family.StatusFlags, family.EventState, family.OutOfService}
	optional = []family.Property{family.Description, family.Reliability}
	switch kind := family.Type(o.ID.Type()); kind {
	case family.AnalogInput, family.AnalogOutput, family.AnalogValue, family.LargeAnalogValue, family.Accumulator,
		family.IntegerValue, family.PositiveIntValue, family.PulseConverter:
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
	case family.Property(ref.Property) == family.ObjectList && ref.Index >= 0 && s.itself(ref.Object):
		return s.listed(ref.Index) // one by one, as many are read
	case s.itself(ref.Object):
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

// itself reports whether an object is the device.
func (s *space) itself(o wire.ObjectID) bool {
	return o == s.id() || o == wire.ID(uint16(family.Device), wire.AnyInstance)
}

// listed is an element of the list of objects, the device first, or how many there are.
func (s *space) listed(index int64) ([]wire.Value, *wire.Failure) {
	switch {
	case index == 0:
		return []wire.Value{wire.Unsigned(uint64(len(s.objects) + 1))}, nil
	case index == 1:
		return []wire.Value{wire.Object(s.id())}, nil
	case index > int64(len(s.objects)+1):
		return nil, noSuchElement
	}
	return []wire.Value{wire.Object(s.objects[index-2].ID)}, nil
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
	} else if s.itself(ref.Object) {
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
