package field

import (
	"context"
	"fmt"
	"strings"
	"time"

	"ferry/internal/core/address"
	"ferry/internal/core/exchange"
	"ferry/internal/core/problem"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// WriteOrder names in full what is about to be written, before it goes.
type WriteOrder struct {
	Point    string `json:"point"`
	Name     string `json:"name"`
	Device   string `json:"device"`
	Target   string `json:"target"` // where the device is
	Link     string `json:"link"`
	Address  string `json:"address"`
	Function string `json:"function"`
	Old      string `json:"old"`
	OldAtMs  int64  `json:"oldAtMs"`
	New      string `json:"new"`
	Unit     string `json:"unit"`
	Words    string `json:"words"`
	// Lost says what the target cannot hold of what was typed, if anything.
	Lost string `json:"lost,omitempty"`
	Mode Mode   `json:"mode"`
}

// WriteResult is what came of a write.
type WriteResult struct {
	Order    WriteOrder `json:"order"`
	OK       bool       `json:"ok"`
	Sentence string     `json:"sentence"`
	// ReadBack is what the point reads after the write.
	ReadBack string `json:"readBack"`
	AtMs     int64  `json:"atMs"`
}

// writing is everything needed to write one point.
type writing struct {
	device *site.Device
	point  *site.Point
	link   *site.Link
	area   address.Area
	codec  value.Codec
	scale  value.Scale
	data   []byte // whole units; for a part of a word, set only once it was read
	raw    value.Value
}

// prepare works out the octets for a value in engineering units.
func (e *Engine) prepare(pointID string, v value.Value) (*writing, error) {
	s := e.Site()
	device, point := s.Point(pointID)
	if point == nil {
		return nil, problem.New("gone", "The point is no longer in the site.", "Reload to see what changed.").At(pointID)
	}
	where := device.Name + " · " + point.Name
	link := s.LinkTo(device.ID)
	if link == nil {
		return nil, problem.New("no-link", "No link reaches "+device.Name+".", "Add one under Lines.").At(where)
	}
	_, def, err := DriverOf(link.Protocol)
	if err != nil {
		return nil, problem.From(err, "protocol").At(where)
	}
	area, ok := address.AreaOf(def.Scheme, point.Address.Area)
	if !ok || !area.Writable {
		return nil, problem.New("not-writable", "Nothing can be written there: "+def.Scheme.Short(point.Address)+" is only to be read.", "").At(where)
	}
	if point.Access == site.ReadOnly {
		return nil, problem.New("read-only", point.Name+" is marked as only to be read.", "Set its access to rw in the map if the device allows it.").At(where)
	}
	codec, err := point.Codec(area.UnitBits)
	if err != nil {
		return nil, problem.From(err, "invalid").At(where)
	}
	scale, err := e.Hub.scale(point)
	if err != nil {
		return nil, problem.New("no-power", "The value cannot be scaled: "+err.Error()+".", "Run the link, so that it is read.").At(where)
	}
	w := &writing{device: device, point: point, link: link, area: area, codec: codec, scale: scale, raw: scale.Invert(v)}
	w.data = make([]byte, max(codec.Width(), (area.UnitBits+7)/8))
	if len(w.data)%((area.UnitBits+7)/8) != 0 {
		w.data = append(w.data, 0)
	}
	if err := codec.Encode(w.raw, w.data); err != nil {
		return nil, problem.New("does-not-fit", err.Error()+".", "Give a value that the point can hold.").At(where)
	}
	return w, nil
}

// fresh is how old a value may be to be shown as the one that a write replaces.
const fresh = 2 * time.Second

// Prepare names in full what writing text to a point would do, and writes
// nothing. A value that was not read just now is read again, so that what
// stands there is seen before it is replaced; if it cannot be read, the last
// value known is named with its time.
func (e *Engine) Prepare(ctx context.Context, pointID, text string) (WriteOrder, error) {
	s := e.Site()
	device, point := s.Point(pointID)
	if point == nil {
		return WriteOrder{}, problem.New("gone", "The point is no longer in the site.", "Reload to see what changed.").At(pointID)
	}
	v, err := point.ParseValue(text)
	if err != nil {
		return WriteOrder{}, problem.New("bad-value", err.Error()+".", "").At(device.Name + " · " + point.Name)
	}
	w, err := e.prepare(pointID, v)
	if err != nil {
		return WriteOrder{}, err
	}
	live, _ := e.Hub.Point(pointID)
	if w.point.Access != site.WriteOnly && time.Now().UnixMilli()-live.AtMs > fresh.Milliseconds() {
		if err := e.with(ctx, w.link.ID, func(r *runner, conn Conn, _ Reply) {
			if conn != nil {
				r.read(conn, w)
			}
		}); err != nil {
			return WriteOrder{}, err
		}
	}
	return e.order(w, v), nil
}

func (e *Engine) order(w *writing, v value.Value) WriteOrder {
	_, def, _ := DriverOf(w.link.Protocol)
	live, _ := e.Hub.Point(w.point.ID)
	e.mu.Lock()
	mode := e.mode
	e.mu.Unlock()
	o := WriteOrder{
		Point: w.point.ID, Name: w.point.Name, Device: w.device.Name, Link: w.link.ID, Target: e.placeOf(w),
		Address: def.Scheme.Short(w.point.Address), Function: def.WriteFunction(w.area.Key, w.point.Units(w.area.UnitBits)),
		Old: live.Shown, OldAtMs: live.AtMs, New: w.point.Shown(w.scale.Apply(w.rounded())), Unit: w.point.Unit, Mode: mode,
		Words: spaced(w.data),
	}
	if from, count, ok := w.point.Bits(w.area.UnitBits); ok {
		o.Words = fmt.Sprintf("bit %d of the word, the others as they are", from)
		if count > 1 {
			o.Words = fmt.Sprintf("bits %d to %d of the word, the others as they are", from, from+count-1)
		}
	}
	if back := w.scale.Apply(w.rounded()); back.Kind() != value.Text && back.Float() != v.Float() && v.Kind() != value.Text {
		o.Lost = fmt.Sprintf("%s cannot be held exactly: it becomes %s", v, back)
		if w.point.Type == value.TypeFloat32 {
			o.Lost = "" // the usual rounding of a float32 is no news
		}
	}
	return o
}

// placeOf says where the device is: its address, or its unit on a serial line.
func (e *Engine) placeOf(w *writing) string {
	line := e.Site().Line(w.link.Line)
	if line == nil || line.Medium != site.SerialLine {
		return w.device.Port(w.link.Line).Host
	}
	_, def, err := DriverOf(w.link.Protocol)
	if err != nil {
		return line.Name
	}
	if unit := def.Value(w.link.Settings, "unit"); unit != 0 {
		return fmt.Sprintf("%s, unit %d", line.Name, unit)
	}
	return line.Name + ", every unit at once"
}

// rounded is the raw value that the encoded octets stand for.
func (w *writing) rounded() value.Value {
	back, err := w.codec.Decode(w.data, value.Value{})
	if err != nil {
		return w.raw
	}
	return back
}

// Write writes a value in engineering units to a point and reads it back.
func (e *Engine) Write(ctx context.Context, pointID string, v value.Value) (WriteResult, error) {
	w, err := e.prepare(pointID, v)
	if err != nil {
		return WriteResult{}, err
	}
	if err := e.mayWrite(); err != nil {
		return WriteResult{}, err
	}
	result := WriteResult{Order: e.order(w, v), AtMs: time.Now().UnixMilli()}
	err = e.with(ctx, w.link.ID, func(r *runner, conn Conn, reply Reply) {
		if conn == nil {
			result.Sentence = "Nothing was written: " + reply.Sentence + "."
			return
		}
		reply = r.write(conn, w)
		if reply.Outcome == exchange.Sent {
			result.OK, result.Sentence = true, "Sent to every unit of the line. None answers to that, so nothing is proved by it."
			return
		}
		if !reply.OK() {
			result.Sentence = fmt.Sprintf("%s did not take it: %s.", w.device.Name, reply.Sentence)
			return
		}
		if w.point.Access == site.WriteOnly {
			result.OK, result.Sentence = true, "Written; the point cannot be read back."
			return
		}
		back, reply := r.readBack(conn, w)
		if !reply.OK() {
			result.Sentence = "It was written, but reading it back failed: " + reply.Sentence + "."
			return
		}
		result.ReadBack = w.point.Shown(w.scale.Apply(back))
		if result.OK = back == w.rounded(); result.OK {
			result.Sentence = "Written and read back."
		} else {
			result.Sentence = fmt.Sprintf("%s took the write, but reads %s.", w.device.Name, strings.TrimSpace(result.ReadBack+" "+w.point.Unit))
		}
	})
	return result, err
}

// write sends the value; for a bit of a word it reads the word first and
// leaves the other bits alone.
func (r *runner) write(conn Conn, w *writing) Reply {
	at := w.point.Address.WithBit(-1)
	if w.codec.Partial() {
		reply := r.read(conn, w)
		if !reply.OK() {
			return reply
		}
		copy(w.data, reply.Data)
		if err := w.codec.Encode(w.raw, w.data); err != nil {
			return Reply{Outcome: exchange.NotAllowed, Sentence: err.Error()}
		}
	}
	began := time.Now()
	reply := conn.Write(at, w.data)
	e := r.exchange(fmt.Sprintf("write %s @ %s", w.point.Name, r.def.Scheme.Short(w.point.Address)), &reply, began, time.Since(began))
	e.Write, e.Points, e.Area, e.Start, e.Count = true, 1, at.Area, at.Offset, w.point.Units(w.area.UnitBits)
	r.hub.record(e, nil)
	return reply
}

func (r *runner) read(conn Conn, w *writing) Reply {
	units := w.point.Units(w.area.UnitBits)
	began := time.Now()
	reply := conn.Read(w.area.Key, w.point.Address.Offset, units)
	e := r.exchange(r.def.Operation(w.area.Key, w.point.Address.Offset, units), &reply, began, time.Since(began))
	e.Points, e.Area, e.Start, e.Count = 1, w.area.Key, w.point.Address.Offset, units
	var parts []part
	if reply.OK() {
		parts = []part{{track: r.hub.track(w.point.ID), codec: w.codec}}
	}
	r.hub.record(e, parts)
	return reply
}

func (r *runner) readBack(conn Conn, w *writing) (value.Value, Reply) {
	reply := r.read(conn, w)
	if !reply.OK() {
		return value.Value{}, reply
	}
	v, err := w.codec.Decode(reply.Data, value.Value{})
	if err != nil {
		return value.Value{}, Reply{Outcome: exchange.Garbled, Sentence: err.Error()}
	}
	return v, reply
}
