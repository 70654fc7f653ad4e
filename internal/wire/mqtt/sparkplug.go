// Package mqtt reads and writes what payloads of MQTT hold in a form of octets: so far
// those of Sparkplug B.
package mqtt

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strings"

	"google.golang.org/protobuf/encoding/protowire"

	"ferry/internal/core/value"
)

// Payload is one of Sparkplug B (Sparkplug 3.0, clause 6.4.6), a message of protocol
// buffers: 1 timestamp, 2 metrics, 3 sequence number.
type Payload struct {
	Time    uint64 // in milliseconds since 1970; 0 for none
	Metrics []Metric
	// Seq is from 0 to 255; HasSeq is set where there is one.
	Seq    uint64
	HasSeq bool
}

// Metric is one of a payload: 1 name, 2 alias, 3 timestamp, 4 data type, 5 historical,
// 7 null, 9 properties, 10 to 16 the value by its type.
type Metric struct {
	Name     string // empty where the alias stands for it
	Alias    uint64
	HasAlias bool
	Time     uint64
	Type     Type
	Null     bool
	Value    value.Value
	// Historical is set for what is told late.
	Historical bool
	// Quality is the property of that name: 0 bad, 192 good, 500 stale; negative for
	// none.
	Quality int32
}

// Type is a data type (clause 6.4.16).
type Type uint32

// The data types that Ferry carries.
const (
	Int8 Type = iota + 1
	Int16
	Int32
	Int64
	UInt8
	UInt16
	UInt32
	UInt64
	Float
	Double
	Boolean
	String
	DateTime
	Text
	UUID
	DataSet
	Bytes
	File
	Template
)

// Several reports whether a type holds more than one value, or octets of no meaning
// that is known here; so do all types after Template, which are arrays.
func (t Type) Several() bool { return t >= DataSet }

// Qualities of a metric.
const (
	QualityBad   = 0
	QualityGood  = 192
	QualityStale = 500
)

// mostMetrics bounds those of one payload, mostOctets the payload.
const (
	mostMetrics = 100_000
	mostOctets  = 8 << 20
)

// AppendPayload appends a payload.
func AppendPayload(dst []byte, p *Payload) []byte {
	if p.Time > 0 {
		dst = appendVarint(dst, 1, p.Time)
	}
	for i := range p.Metrics {
		dst = protowire.AppendTag(dst, 2, protowire.BytesType)
		dst = protowire.AppendBytes(dst, appendMetric(nil, &p.Metrics[i]))
	}
	if p.HasSeq {
		dst = appendVarint(dst, 3, p.Seq)
	}
	return dst
}

func appendVarint(dst []byte, field protowire.Number, v uint64) []byte {
	return protowire.AppendVarint(protowire.AppendTag(dst, field, protowire.VarintType), v)
}

func appendMetric(dst []byte, m *Metric) []byte {
	if m.Name != "" {
		dst = protowire.AppendString(protowire.AppendTag(dst, 1, protowire.BytesType), m.Name)
	}
	if m.HasAlias {
		dst = appendVarint(dst, 2, m.Alias)
	}
	if m.Time > 0 {
		dst = appendVarint(dst, 3, m.Time)
	}
	dst = appendVarint(dst, 4, uint64(m.Type))
	if m.Historical {
		dst = appendVarint(dst, 5, 1)
	}
	if m.Quality >= 0 {
		set := protowire.AppendString(protowire.AppendTag(nil, 1, protowire.BytesType), "Quality")
		one := appendVarint(appendVarint(nil, 1, uint64(Int32)), 3, uint64(m.Quality))
		set = protowire.AppendBytes(protowire.AppendTag(set, 2, protowire.BytesType), one)
		dst = protowire.AppendBytes(protowire.AppendTag(dst, 9, protowire.BytesType), set)
	}
	if m.Null || m.Value.IsNone() {
		return appendVarint(dst, 7, 1)
	}
	switch m.Type {
	case Int8, Int16, Int32:
		return appendVarint(dst, 10, uint64(uint32(int32(m.Value.Int()))))
	case UInt8, UInt16, UInt32:
		return appendVarint(dst, 10, uint64(uint32(m.Value.Uint())))
	case Int64, DateTime:
		return appendVarint(dst, 11, uint64(m.Value.Int()))
	case UInt64:
		return appendVarint(dst, 11, m.Value.Uint())
	case Float:
		return protowire.AppendFixed32(protowire.AppendTag(dst, 12, protowire.Fixed32Type),
			math.Float32bits(float32(m.Value.Float())))
	case Double:
		return protowire.AppendFixed64(protowire.AppendTag(dst, 13, protowire.Fixed64Type), math.Float64bits(m.Value.Float()))
	case Boolean:
		return appendVarint(dst, 14, protowire.EncodeBool(m.Value.Bool()))
	}
	return protowire.AppendString(protowire.AppendTag(dst, 15, protowire.BytesType), m.Value.Text())
}

// ParsePayload reads a payload. What it does not know of it is passed over.
func ParsePayload(data []byte) (p Payload, err error) {
	if len(data) > mostOctets {
		return p, fmt.Errorf("the payload has %d octets", len(data))
	}
	err = fields(data, func(field protowire.Number, v fieldValue) error {
		switch field {
		case 1:
			p.Time = v.number
		case 2:
			m, err := parseMetric(v.octets)
			if err != nil {
				return fmt.Errorf("metric %d: %w", len(p.Metrics)+1, err)
			}
			if len(p.Metrics) >= mostMetrics {
				return fmt.Errorf("it has more than %d metrics", mostMetrics)
			}
			p.Metrics = append(p.Metrics, m)
		case 3:
			p.Seq, p.HasSeq = v.number, true
		}
		return nil
	})
	return p, err
}

// fieldValue is the value of a field: a number, or octets.
type fieldValue struct {
	number uint64
	octets []byte
}

// fields goes through the fields of a message.
func fields(data []byte, each func(field protowire.Number, v fieldValue) error) error {
	for len(data) > 0 {
		field, kind, n := protowire.ConsumeTag(data)
		if n < 0 {
			return errors.New("it is no message of protocol buffers")
		}
		data = data[n:]
		var v fieldValue
		switch kind {
		case protowire.VarintType:
			v.number, n = protowire.ConsumeVarint(data)
		case protowire.Fixed32Type:
			var bits uint32
			bits, n = protowire.ConsumeFixed32(data)
			v.number = uint64(bits)
		case protowire.Fixed64Type:
			v.number, n = protowire.ConsumeFixed64(data)
		case protowire.BytesType:
			v.octets, n = protowire.ConsumeBytes(data)
		default:
			n = protowire.ConsumeFieldValue(field, kind, data)
		}
		if n < 0 {
			return fmt.Errorf("field %d of it is cut short", field)
		}
		data = data[n:]
		if err := each(field, v); err != nil {
			return err
		}
	}
	return nil
}

func parseMetric(data []byte) (m Metric, err error) {
	m.Quality = -1
	var number fieldValue
	holds := protowire.Number(0)
	err = fields(data, func(field protowire.Number, v fieldValue) error {
		switch field {
		case 1:
			m.Name = string(v.octets)
		case 2:
			m.Alias, m.HasAlias = v.number, true
		case 3:
			m.Time = v.number
		case 4:
			m.Type = Type(v.number)
		case 5:
			m.Historical = v.number != 0
		case 7:
			m.Null = v.number != 0
		case 9:
			m.Quality = qualityIn(v.octets)
		case 10, 11, 12, 13, 14, 15:
			holds, number = field, v
		}
		return nil
	})
	if err != nil || m.Null {
		return m, err
	}
	m.Value, err = valueIn(m.Type, holds, number)
	return m, err
}

// valueIn is the value of a metric. A payload of data may leave its type out: the birth
// has told it, and only the field tells how it is held.
func valueIn(t Type, holds protowire.Number, v fieldValue) (value.Value, error) {
	switch holds {
	case 0:
		return value.Value{}, nil
	case 10:
		switch t {
		case Int8:
			return value.OfInt(int64(int8(v.number))), nil
		case Int16:
			return value.OfInt(int64(int16(v.number))), nil
		case Int32:
			return value.OfInt(int64(int32(v.number))), nil
		}
		return value.OfUint(uint64(uint32(v.number))), nil
	case 11:
		switch t {
		case Int64:
			return value.OfInt(int64(v.number)), nil
		case DateTime:
			return value.OfMoment(int64(v.number)), nil
		}
		return value.OfUint(v.number), nil
	case 12:
		return value.OfFloat(float64(math.Float32frombits(uint32(v.number)))), nil
	case 13:
		return value.OfFloat(math.Float64frombits(v.number)), nil
	case 14:
		return value.OfBool(v.number != 0), nil
	}
	return value.OfText(string(v.octets)), nil
}

// Means tells of which type a metric is that came without one: as its birth has it. A
// number that was read as one without a sign is then read anew.
func (m *Metric) Means(t Type) {
	if m.Type != 0 {
		return
	}
	m.Type = t
	if m.Value.Kind() != value.Uint {
		return
	}
	n := fieldValue{number: m.Value.Uint()}
	switch t {
	case Int8, Int16, Int32:
		m.Value, _ = valueIn(t, 10, n) // no number fails
	case Int64, DateTime:
		m.Value, _ = valueIn(t, 11, n)
	}
}

// qualityIn finds the property Quality; negative for none.
func qualityIn(set []byte) int32 {
	var keys []string
	var values [][]byte
	quality := int32(-1)
	if fields(set, func(field protowire.Number, v fieldValue) error {
		switch field {
		case 1:
			keys = append(keys, string(v.octets))
		case 2:
			values = append(values, v.octets)
		}
		return nil
	}) != nil {
		return quality
	}
	for i := range min(len(keys), len(values)) {
		if keys[i] != "Quality" {
			continue
		}
		_ = fields(values[i], func(field protowire.Number, v fieldValue) error { // what cannot be read is none
			if field == 3 || field == 4 {
				quality = int32(v.number)
			}
			return nil
		})
	}
	return quality
}

// HostState is what a host application tells of itself (Sparkplug 3.0, clause 6.4.22):
// retained, as JSON; before version 3 it was the word ONLINE or OFFLINE.
type HostState struct {
	Online bool   `json:"online"`
	Time   uint64 `json:"timestamp"` // milliseconds since 1970, the same in its will
}

// HostOfState is the host that a topic is about; ok is false for other topics.
func HostOfState(topic string) (host string, ok bool) {
	if host, ok = strings.CutPrefix(topic, "spBv1.0/STATE/"); !ok {
		host, ok = strings.CutPrefix(topic, "STATE/")
	}
	return host, ok && host != ""
}

// ParseState reads the state of a host.
func ParseState(payload []byte) (s HostState, err error) {
	switch string(payload) {
	case "ONLINE":
		return HostState{Online: true}, nil
	case "OFFLINE":
		return HostState{}, nil
	}
	err = json.Unmarshal(payload, &s)
	return s, err
}
