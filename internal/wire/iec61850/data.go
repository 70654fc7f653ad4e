package iec61850

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"strings"
	"time"

	family "ferry/internal/core/family/iec61850"
)

// Data is a value of MMS (ISO 9506-2, Data; IEC 61850-8-1, clause 8.1.3).
type Data struct {
	Kind family.Kind
	// Int is a boolean (0 or 1) or a whole number, without a sign where the kind says so.
	Int   int64
	Float float64
	// Bits is a bit string, the first bit the lowest, and Size how many it has; of numbers how many
	// bits they have on the wire.
	Bits uint64
	Size int
	Text string // of strings; of octets these
	// Time is that of a UTC time, its quality in the upper octet: 0x80 leap seconds known, 0x40 the
	// clock failed, 0x20 it is not synchronised, the rest how exact it is.
	Time        time.Time
	TimeQuality byte
	Parts       []Data
	// From and To are the octets of it among those that were read, To exclusive.
	From, To int
}

// Tags of data.
const (
	tagArray     = 0xA1
	tagStructure = 0xA2
	tagBoolean   = 0x83
	tagBits      = 0x84
	tagInteger   = 0x85
	tagUnsigned  = 0x86
	tagFloat     = 0x87
	tagOctets    = 0x89
	tagVisible   = 0x8A
	tagBinary    = 0x8C
	tagMMSString = 0x90
	tagUTC       = 0x91
)

// Bounds of a value.
const (
	mostDepth = 16
	mostParts = 100_000
)

// ReadData reads a value, and returns what is behind it. from is where b begins among all octets.
func ReadData(b []byte, from int) (d Data, rest []byte, err error) {
	left := mostParts
	return readData(b, from, 0, &left)
}

func readData(b []byte, from, depth int, left *int) (d Data, rest []byte, err error) {
	e, rest, err := next(b)
	if err != nil {
		return d, nil, err
	}
	if *left--; *left < 0 || depth > mostDepth {
		return d, nil, fmt.Errorf("a value with more than %d parts, or %d deep", mostParts, mostDepth)
	}
	d.From, d.To = from, from+len(b)-len(rest)
	c := e.content
	switch e.tag {
	case tagArray, tagStructure:
		d.Kind = family.Structure
		if e.tag == tagArray {
			d.Kind = family.Array
		}
		at := from + e.head
		for len(c) > 0 {
			part, behind, err := readData(c, at, depth+1, left)
			if err != nil {
				return d, nil, err
			}
			d.Parts = append(d.Parts, part)
			at += len(c) - len(behind)
			c = behind
		}
	case tagBoolean:
		if len(c) != 1 {
			return d, nil, fmt.Errorf("a boolean of %d octets", len(c))
		}
		if d.Kind = family.Boolean; c[0] != 0 {
			d.Int = 1
		}
	case tagBits:
		if len(c) == 0 || c[0] > 7 || len(c) == 1 && c[0] > 0 {
			return d, nil, errors.New("a bit string without its length")
		}
		d.Kind, d.Size = family.BitString, 8*(len(c)-1)-int(c[0])
		for i := range min(d.Size, 64) {
			if c[1+i/8]&(0x80>>(i%8)) != 0 {
				d.Bits |= 1 << i
			}
		}
		d.Text = string(c[1:])
	case tagInteger:
		d.Kind, d.Size = family.Integer, 8*len(c)
		d.Int, err = intOf(c)
	case tagUnsigned:
		var v uint64
		d.Kind, d.Size = family.Unsigned, 8*len(c)
		v, err = uintOf(c)
		d.Int = int64(v)
	case tagFloat: // an octet says how many bits the exponent has (ISO 9506-2, FloatingPoint)
		switch d.Kind, d.Size = family.Floating, 8*(len(c)-1); {
		case len(c) == 5 && c[0] == 8:
			d.Float = float64(math.Float32frombits(binary.BigEndian.Uint32(c[1:])))
		case len(c) == 9 && c[0] == 11:
			d.Float = math.Float64frombits(binary.BigEndian.Uint64(c[1:]))
		default:
			err = fmt.Errorf("a floating point number of %d octets", len(c))
		}
	case tagOctets:
		d.Kind, d.Text = family.OctetString, string(c)
	case tagVisible, tagMMSString:
		d.Kind, d.Text = family.VisibleString, strings.ToValidUTF8(string(c), "\uFFFD")
		if e.tag == tagMMSString {
			d.Kind = family.MMSString
		}
	case tagBinary:
		d.Kind = family.EntryTime
		if d.Time, err = entryTime(c); err != nil {
			return d, nil, err
		}
	case tagUTC:
		if len(c) != 8 {
			return d, nil, fmt.Errorf("a time of %d octets", len(c))
		}
		fraction := uint64(c[4])<<16 | uint64(c[5])<<8 | uint64(c[6])
		d.Kind, d.TimeQuality = family.UTCTime, c[7]
		if seconds := binary.BigEndian.Uint32(c); seconds > 0 {
			d.Time = time.Unix(int64(seconds), int64((fraction*1e9+1<<23)>>24)).Round(time.Microsecond).UTC()
		}
	default:
		return d, nil, fmt.Errorf("a value of tag %02X, which is none of those in use", e.tag)
	}
	return d, rest, err
}

// entryEpoch is from where entry times count days (ISO 9506-2, TimeOfDay).
var entryEpoch = time.Date(1984, 1, 1, 0, 0, 0, 0, time.UTC)

// entryTime is a time of milliseconds of the day in 4 octets and days in 2.
func entryTime(b []byte) (time.Time, error) {
	if len(b) != 4 && len(b) != 6 {
		return time.Time{}, fmt.Errorf("a time of entry of %d octets", len(b))
	}
	at := entryEpoch.Add(time.Duration(binary.BigEndian.Uint32(b)) * time.Millisecond)
	if len(b) == 6 {
		at = at.AddDate(0, 0, int(binary.BigEndian.Uint16(b[4:])))
	}
	return at, nil
}

// Append puts the octets of a value behind others.
func (d *Data) Append(b []byte) []byte {
	switch d.Kind {
	case family.Structure, family.Array:
		var parts []byte
		for i := range d.Parts {
			parts = d.Parts[i].Append(parts)
		}
		tag := byte(tagStructure)
		if d.Kind == family.Array {
			tag = tagArray
		}
		return append(b, wrap(tag, parts)...)
	case family.Boolean:
		octet := byte(0)
		if d.Int != 0 {
			octet = 0xFF
		}
		return append(b, tagBoolean, 1, octet)
	case family.BitString:
		octets := make([]byte, 1+(d.Size+7)/8)
		octets[0] = byte((8 - d.Size%8) % 8)
		if d.Size > 64 || d.Bits == 0 {
			copy(octets[1:], d.Text)
		}
		for i := range min(d.Size, 64) {
			if d.Bits&(1<<i) != 0 {
				octets[1+i/8] |= 0x80 >> (i % 8)
			}
		}
		return append(b, wrap(tagBits, octets)...)
	case family.Integer:
		return append(b, whole(tagInteger, d.Int)...)
	case family.Unsigned:
		return append(b, natural(tagUnsigned, uint64(d.Int))...)
	case family.Floating:
		if d.Size == 64 {
			return append(b, wrap(tagFloat, binary.BigEndian.AppendUint64([]byte{11}, math.Float64bits(d.Float)))...)
		}
		return append(b, wrap(tagFloat, binary.BigEndian.AppendUint32([]byte{8}, math.Float32bits(float32(d.Float))))...)
	case family.OctetString:
		return append(b, wrap(tagOctets, []byte(d.Text))...)
	case family.VisibleString:
		return append(b, wrap(tagVisible, []byte(d.Text))...)
	case family.MMSString:
		return append(b, wrap(tagMMSString, []byte(d.Text))...)
	case family.EntryTime:
		since := max(d.Time.Sub(entryEpoch), 0)
		days := since / (24 * time.Hour)
		octets := binary.BigEndian.AppendUint32(nil, uint32((since-days*24*time.Hour)/time.Millisecond))
		return append(b, wrap(tagBinary, binary.BigEndian.AppendUint16(octets, uint16(days)))...)
	case family.UTCTime:
		octets := make([]byte, 8)
		if !d.Time.IsZero() {
			binary.BigEndian.PutUint32(octets, uint32(d.Time.Unix()))
			fraction := min((uint64(d.Time.Nanosecond())<<24+1e9/2)/1e9, 1<<24-1)
			octets[4], octets[5], octets[6] = byte(fraction>>16), byte(fraction>>8), byte(fraction)
		}
		octets[7] = d.TimeQuality
		return append(b, wrap(tagUTC, octets)...)
	}
	return append(b, tagStructure, 0) // nothing has a value
}

// Same reports whether two values are the same, wherever they stand.
func (d *Data) Same(other *Data) bool {
	if d.Kind != other.Kind || d.Int != other.Int || d.Float != other.Float &&
		!(math.IsNaN(d.Float) && math.IsNaN(other.Float)) || d.Bits != other.Bits || d.Kind == family.BitString &&
		d.Size != other.Size || d.Kind != family.BitString && d.Text != other.Text ||
		!d.Time.Equal(other.Time) || d.TimeQuality != other.TimeQuality || len(d.Parts) != len(other.Parts) {
		return false
	}
	for i := range d.Parts {
		if !d.Parts[i].Same(&other.Parts[i]) {
			return false
		}
	}
	return true
}

// Included is a bit string of so many bits, the first the highest of the first octet: it may have more
// than Bits holds.
func Included(octets []byte, size int) Data {
	return Data{Kind: family.BitString, Size: size, Text: string(octets)}
}

// Bit reports whether a bit of a bit string is set.
func (d *Data) Bit(i int) bool {
	return i >= 0 && i < d.Size && i/8 < len(d.Text) && d.Text[i/8]&(0x80>>(i%8)) != 0
}
