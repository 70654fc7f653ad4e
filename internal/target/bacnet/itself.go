package bacnet

import (
	family "ferry/internal/core/family/bacnet"
	wire "ferry/internal/wire/bacnet"
)

// Bits of the services that are answered (clause 21, BACnetServicesSupported).
var servicesAnswered = []int{5, 12, 14, 15, 26, 33, 34}

// typesAnswered are the types of objects that there may be.
var typesAnswered = []family.Type{family.AnalogInput, family.AnalogOutput, family.AnalogValue, family.BinaryInput,
	family.BinaryOutput, family.BinaryValue, family.Device, family.MultiInput, family.MultiOutput, family.MultiValue,
	family.Accumulator, family.CharacterValue, family.IntegerValue, family.LargeAnalogValue, family.PositiveIntValue}

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
			if !d.lacks(uint8(b)) || b > wire.ReadRange {
				bits |= 1 << b
			}
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
		return one(wire.Unsigned(uint64(d.most())))
	case family.Segmentation:
		return one(wire.Enumerated(uint64(d.segmentation())))
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
	case family.DatabaseRevision:
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
