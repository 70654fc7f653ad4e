package field

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"strings"
	"time"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// WriteOrder names in full what is about to be written, before it goes. Its
// token carries out just that, once.
type WriteOrder struct {
	Token    string `json:"token,omitempty"`
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
	// Locked is set where the plant has to be unlocked first, and the order then
	// prepared anew.
	Locked bool `json:"locked,omitempty"`
}

// order is a write that was prepared: the octets, and all that they were
// worked out from.
type order struct {
	token     string
	made      time.Time
	by        authority
	life      context.Context // of the mode
	mode      Mode
	unlocking uint64
	site      *site.Site
	device    *site.Device
	point     *site.Point
	link      *site.Link
	def       *protocol.Def
	rules     protocol.Ranges // nil where it goes by the name of its place
	area      block.Area
	codec     value.Codec
	scale     value.Scale
	data      []byte // whole units; where the point shares one, its own bits only; none by name
	raw       value.Value
	wanted    value.Value    // in engineering units
	note      *protocol.Note // what goes with it; nil for nothing
	// level is the one at which it is given, zero for that of the link, and levelTitle what it is called; gives is set
	// where the level is given up.
	level      address.Address
	levelTitle string
	gives      bool
	// dial, format and host are where it goes, where says it in words.
	dial, format, host, where string
}

// prepare works out the octets for a value in engineering units.
func (e *Engine) prepare(pointID string, v value.Value, by authority) (*order, error) {
	return e.prepareAt(pointID, v, At{}, by)
}

// prepareAt is prepare at a level.
func (e *Engine) prepareAt(pointID string, v value.Value, at At, by authority) (*order, error) {
	e.mu.Lock()
	o := &order{made: time.Now(), by: by, life: e.door.life, mode: e.door.mode, unlocking: e.door.unlocking,
		site: e.site, wanted: v}
	err := o.locate(e, pointID)
	e.mu.Unlock()
	if err != nil {
		return nil, err
	}
	if o.point.Access == site.ReadOnly {
		return nil, problem.New("read-only", o.point.Name+" is marked as only to be read.",
			"Set its access to rw in the map if the device allows it.").At(o.where)
	}
	if err := o.atLevel(at); err != nil {
		return nil, err
	}
	if o.scale, err = e.Hub.scale(o.point); err != nil {
		return nil, problem.New("no-power", "The value cannot be scaled: "+err.Error()+".",
			"Run the link, so that it is read.").At(o.where)
	}
	if o.gives {
		o.raw = value.Value{}
		return o, nil
	}
	o.raw = o.scale.Invert(v)
	if o.rules, _ = o.def.Ranges(); o.rules != nil {
		err = o.intoUnits()
	} else {
		err = o.intoItem()
	}
	if err != nil {
		return nil, err
	}
	return o, nil
}

// intoUnits works out the units to be written.
func (o *order) intoUnits() (err error) {
	area, ok := block.AreaOf(o.def.Scheme, o.point.Place().Area)
	if !ok || !area.Writable {
		return problem.New("not-writable",
			"Nothing can be written there: "+o.def.Scheme.Short(o.point.Address)+" is only to be read.", "").At(o.where)
	}
	o.area = area
	if o.codec, err = o.point.Codec(area.UnitBits); err != nil {
		return problem.From(err, "invalid").At(o.where)
	}
	unit := (area.UnitBits + 7) / 8
	o.data = make([]byte, (max(o.codec.Width(), unit)+unit-1)/unit*unit)
	if err := o.codec.Encode(o.raw, o.data); err != nil {
		return problem.New("does-not-fit", err.Error()+".", "Give a value that the point can hold.").At(o.where)
	}
	return nil
}

// intoItem works out the value to be written by the name of its place.
func (o *order) intoItem() error {
	items, ok := o.def.Items()
	if !ok {
		return problem.New("not-writable", o.def.Title+" writes nothing.", "").At(o.where)
	}
	if err := items.Writable(o.point.Address); err != nil {
		return problem.New("not-writable", "Nothing can be written there: "+err.Error()+".", "").At(o.where)
	}
	raw, err := value.As(whole(o.raw, o.point.Type), o.point.Shape(0))
	if err != nil {
		return problem.New("does-not-fit", err.Error()+".", "Give a value that the point can hold.").At(o.where)
	}
	o.raw = raw
	return nil
}

// whole is a number as a whole one, if it is to become such.
func whole(v value.Value, to value.Type) value.Value {
	if v.Kind() == value.Float && to.IsWhole() {
		return value.OfFloat(math.Round(v.Float()))
	}
	return v
}

// ranges are the units that the point covers.
func (o *order) ranges() []block.Range {
	at := o.point.Place()
	return []block.Range{{Area: at.Area, Start: at.Offset, Count: o.point.Units(o.area.UnitBits)}}
}

// locate finds the point, its link and where that goes. The lock is held.
func (o *order) locate(e *Engine, pointID string) error {
	device, point := e.pointAt(pointID)
	if point == nil {
		return problem.New("gone", "The point is no longer in the site.", "Reload to see what changed.").At(pointID)
	}
	o.device, o.point, o.where = device, point, device.Name+" · "+point.Name
	if o.link = o.site.LinkOf(device, point); o.link == nil {
		return problem.New("no-link", "No link reaches "+device.Name+".", "Add one under Lines.").At(o.where)
	}
	var err error
	if _, o.def, err = DriverOf(o.link.Protocol); err != nil {
		return problem.From(err, "protocol").At(o.where)
	}
	target, _, err := e.targetOf(o.link)
	if err != nil {
		return err
	}
	o.dial, o.format = e.dialNow(o.link, &target), target.Format.String()
	if port := device.PortFor(o.link); port != nil {
		o.host = port.Host
	}
	return nil
}

// show puts an order in words.
func (e *Engine) show(o *order) WriteOrder {
	live, _ := e.Hub.Point(o.point.ID)
	shown := WriteOrder{
		Point: o.point.ID, Name: o.point.Name, Device: o.device.Name, Link: o.link.ID, Target: o.place(),
		Address:  o.def.Scheme.Short(o.point.Address),
		Function: o.function(),
		Old:      live.Shown, OldAtMs: live.AtMs, New: o.point.Shown(o.scale.Apply(o.rounded())), Unit: o.point.Unit,
		Mode:  o.mode,
		Words: spaced(o.data),
	}
	if o.bitAlone() {
		shown.Words = fmt.Sprintf("bit %d alone", o.point.Place().Bit)
	} else if from, count, ok := o.point.Bits(o.area.UnitBits); ok {
		shown.Words = fmt.Sprintf("bit %d of the word, the others as they are", from)
		if count > 1 {
			shown.Words = fmt.Sprintf("bits %d to %d of the word, the others as they are", from, from+count-1)
		}
	} else if o.codec.Partial() {
		shown.Words = spaced(o.data[:len(o.data)-1]) + ", and the octet that shares the last word as it is"
		if o.codec.Order == "BA" {
			shown.Words = spaced(o.data) + ", and the octet that shares the last word as it is"
		}
	}
	if !o.level.IsZero() {
		shown.Address, shown.Function = o.def.Scheme.Short(o.level), shown.Function+", at "+o.levelTitle
	}
	if o.gives {
		shown.New, shown.Unit = "given up", ""
		return shown
	}
	v := o.wanted
	if back := o.scale.Apply(o.rounded()); back.Kind() != value.Text && back.Float() != v.Float() &&
		v.Kind() != value.Text {
		shown.Lost = fmt.Sprintf("%s cannot be held exactly: it becomes %s", v, back)
		if o.point.Type == value.TypeFloat32 {
			shown.Lost = "" // the usual rounding of a float32 is no news
		}
	}
	return shown
}

// function is the protocol's own name for the write.
func (o *order) function() string {
	if o.rules != nil {
		return o.rules.WriteFunction(o.area.Key, o.point.Units(o.area.UnitBits))
	}
	items, _ := o.def.Items()
	return items.WriteItem(o.point.Address)
}

// bitAlone reports whether the point is a bit that is written alone.
func (o *order) bitAlone() bool {
	return o.point.Type == value.TypeBool && o.point.Place().Bit >= 0 && o.def.WritesBits()
}

// place says where the device is: its address, or its station on a serial line.
func (o *order) place() string {
	line := o.site.Line(o.link.Line)
	if line == nil || line.Medium != site.SerialLine {
		return cmp.Or(o.host, o.dial)
	}
	if o.def.ToAll(o.link.Settings) {
		s, _ := o.def.Setting(o.def.Station)
		return line.Name + ", every " + strings.ToLower(s.Title) + " at once"
	}
	return strings.TrimSuffix(line.Name+", "+o.def.StationWords(o.link.Settings), ", ")
}

// rounded is the raw value that the encoded octets stand for.
func (o *order) rounded() value.Value {
	if o.rules == nil {
		return o.raw
	}
	back, err := o.codec.Decode(o.data, value.Value{})
	if err != nil {
		return o.raw
	}
	return back
}
