package opcua

import (
	"bytes"
	"math"
	"time"

	"github.com/gopcua/opcua/ua"
)

// item is a node that is watched.
type item struct {
	id      uint32
	what    *ua.ReadValueID
	handle  uint32
	mode    ua.MonitoringMode
	times   ua.TimestampsToReturn
	every   time.Duration
	due     time.Time
	trigger ua.DataChangeTrigger
	band    float64 // by how much a value has to move, absolutely
	queue   []*ua.DataValue
	most    int
	newest  bool // a full queue loses its newest value, else its oldest
	last    *ua.DataValue
	octets  []byte // of the last value
}

// overflowed are the bits of a status by which a value says that others beside it were lost (OPC
// 10000-4, clause 7.39.1).
const overflowed = 0x480

// set has a node watched as somebody asks for.
func (it *item) set(p *ua.MonitoringParameters, n *node, every time.Duration) ua.StatusCode {
	trigger, band, code := it.filter(p.Filter, n)
	if code != ua.StatusOK {
		return code
	}
	it.trigger, it.band, it.handle, it.newest = trigger, band, p.ClientHandle, !p.DiscardOldest
	it.most, it.every = int(min(max(p.QueueSize, 1), 1000)), every
	if p.SamplingInterval >= 0 {
		it.every = time.Duration(min(max(p.SamplingInterval, 20), 3_600_000) * 1e6)
	}
	it.queue = it.queue[max(0, len(it.queue)-it.most):]
	return ua.StatusOK
}

// filter reads which changes are told (OPC 10000-4, clause 7.22.2). A deadband in percent is of the
// range of the node.
func (it *item) filter(of *ua.ExtensionObject, n *node) (trigger ua.DataChangeTrigger, band float64,
	code ua.StatusCode) {
	if of == nil || of.Value == nil {
		return ua.DataChangeTriggerStatusValue, 0, ua.StatusOK
	}
	f, ok := of.Value.(*ua.DataChangeFilter)
	switch {
	case !ok:
		return 0, 0, ua.StatusBadMonitoredItemFilterUnsupported
	case n == nil || n.variable == nil || it.what.AttributeID != ua.AttributeIDValue ||
		f.Trigger > ua.DataChangeTriggerStatusValueTimestamp:
		return 0, 0, ua.StatusBadFilterNotAllowed
	case f.DeadbandType == uint32(ua.DeadbandTypeNone):
		return f.Trigger, 0, ua.StatusOK
	case n.variable.Type == ua.TypeIDBoolean || n.variable.Type > ua.TypeIDDouble:
		return 0, 0, ua.StatusBadFilterNotAllowed
	case math.IsNaN(f.DeadbandValue) || f.DeadbandValue < 0:
		return 0, 0, ua.StatusBadDeadbandFilterInvalid
	case f.DeadbandType == uint32(ua.DeadbandTypeAbsolute):
		return f.Trigger, f.DeadbandValue, ua.StatusOK
	case f.DeadbandType != uint32(ua.DeadbandTypePercent) || n.variable.Low == nil || n.variable.High == nil ||
		f.DeadbandValue > 100:
		return 0, 0, ua.StatusBadDeadbandFilterInvalid
	}
	return f.Trigger, f.DeadbandValue / 100 * (*n.variable.High - *n.variable.Low), ua.StatusOK
}

// sample queues a value that is another than the one before, as the filter has it; false for one that
// is not.
func (it *item) sample(v *ua.DataValue) bool {
	octets, err := plainly(v)
	if err != nil || it.last != nil && !it.other(v, octets) {
		return false
	}
	it.last, it.octets = v, octets
	if len(it.queue) < it.most {
		it.queue = append(it.queue, v)
		return true
	}
	if it.newest {
		it.queue[it.most-1] = v
	} else {
		it.queue = append(it.queue[1:], v)
	}
	if it.most > 1 {
		at := 0
		if it.newest {
			at = it.most - 1
		}
		marked := *it.queue[at]
		marked.EncodingMask |= ua.DataValueStatusCode
		marked.Status |= overflowed
		it.queue[at] = &marked
	}
	return true
}

// other reports whether a value is to be told after the one before.
func (it *item) other(v *ua.DataValue, octets []byte) bool {
	if v.Status != it.last.Status {
		return true
	}
	if it.trigger == ua.DataChangeTriggerStatus {
		return false
	}
	if it.trigger == ua.DataChangeTriggerStatusValueTimestamp && !v.SourceTimestamp.Equal(it.last.SourceTimestamp) {
		return true
	}
	if bytes.Equal(octets, it.octets) {
		return false
	}
	if it.band > 0 {
		if a, b, ok := numbers(it.last, v); ok {
			return math.Abs(a-b) > it.band
		}
	}
	return true
}

// plainly is a value without its times.
func plainly(v *ua.DataValue) ([]byte, error) {
	if v.Value == nil {
		return nil, nil
	}
	return v.Value.Encode()
}

func numbers(a, b *ua.DataValue) (x, y float64, ok bool) {
	number := func(v *ua.DataValue) (float64, bool) {
		if v.Value == nil {
			return 0, false
		}
		switch n := v.Value.Value().(type) {
		case float64:
			return n, true
		case float32:
			return float64(n), true
		case int16, int32, int64, int8:
			return float64(v.Value.Int()), true
		case uint16, uint32, uint64, byte:
			return float64(v.Value.Uint()), true
		}
		return 0, false
	}
	x, ok = number(a)
	y, also := number(b)
	return x, y, ok && also
}

// stamped is a value with the times that somebody wants.
func stamped(v *ua.DataValue, times ua.TimestampsToReturn) *ua.DataValue {
	out := *v
	if times == ua.TimestampsToReturnServer || times == ua.TimestampsToReturnNeither {
		out.EncodingMask &^= ua.DataValueSourceTimestamp | ua.DataValueSourcePicoseconds
	}
	if times == ua.TimestampsToReturnSource || times == ua.TimestampsToReturnNeither {
		out.EncodingMask &^= ua.DataValueServerTimestamp | ua.DataValueServerPicoseconds
	}
	return &out
}
