// Package opcua reads the bodies of OPC UA messages (OPC 10000-6, clause 5.2) strictly and
// within bounds: a length that its octets cannot hold costs nothing and is an error. The
// library encodes; what comes from others is decoded here, into its types.
package opcua

import (
	"encoding/binary"
	"fmt"
	"math"
	"reflect"
	"time"

	"github.com/gopcua/opcua/ua"

	family "ferry/internal/core/family/opcua"
)

// Bounds of a message. Elements are those of all arrays together: each of them takes some
// hundred octets once it is read.
const (
	MostOctets   = 16 << 20
	mostElements = 1_000_000
	mostDepth    = 16
)

// Decode reads a body into a pointer to a structure of the library. Octets behind it are an
// error, too.
func Decode(b []byte, into any) (err error) {
	if len(b) > MostOctets {
		return fmt.Errorf("a message of %d octets is larger than any", len(b))
	}
	d := &decoder{b: b, end: len(b)}
	d.whole(into)
	if d.err == nil && len(d.b) > 0 {
		d.fail("%d octets are left behind the message", len(d.b))
	}
	return d.err
}

// whole reads into a pointer to a structure.
func (d *decoder) whole(into any) {
	to := reflect.ValueOf(into)
	if to.Kind() != reflect.Pointer || to.IsNil() {
		d.fail("opcua: Decode wants a pointer")
		return
	}
	d.into(to.Elem(), 0)
}

// decoder reads octets from the front. After the first error it reads nothing more.
type decoder struct {
	b        []byte
	end      int // where b ends in what is decoded
	err      error
	elements int
	trace    *trace // what stands where; nil for nobody who wants to know
}

func (d *decoder) fail(format string, args ...any) {
	if d.err == nil {
		d.err = fmt.Errorf(format, args...)
		d.b = nil
	}
}

// take takes so many octets.
func (d *decoder) take(n int) []byte {
	if d.err != nil || n < 0 || n > len(d.b) {
		d.fail("the message ends within a value")
		return nil
	}
	taken := d.b[:n:n]
	d.b = d.b[n:]
	return taken
}

func (d *decoder) u8() byte {
	if b := d.take(1); b != nil {
		return b[0]
	}
	return 0
}

func (d *decoder) u16() uint16 {
	if b := d.take(2); b != nil {
		return binary.LittleEndian.Uint16(b)
	}
	return 0
}

func (d *decoder) u32() uint32 {
	if b := d.take(4); b != nil {
		return binary.LittleEndian.Uint32(b)
	}
	return 0
}

func (d *decoder) u64() uint64 {
	if b := d.take(8); b != nil {
		return binary.LittleEndian.Uint64(b)
	}
	return 0
}

// length reads how many elements follow, each of at least so many octets; -1 for no array at
// all.
func (d *decoder) length(least int) int {
	n := int(int32(d.u32()))
	if d.err != nil || n == -1 {
		return -1
	}
	if n < -1 || n > len(d.b)/max(1, least) {
		d.fail("an array of %d elements stands in %d octets", n, len(d.b))
		return -1
	}
	if d.elements += n; d.elements > mostElements {
		d.fail("the message has more than %d elements", mostElements)
		return -1
	}
	return n
}

// octets reads octets with their length before them; nil for none at all.
func (d *decoder) octets() []byte {
	n := int(int32(d.u32()))
	if d.err != nil || n == -1 {
		return nil
	}
	if n < -1 || n > len(d.b) {
		d.fail("%d octets stand in %d", n, len(d.b))
		return nil
	}
	return append([]byte{}, d.take(n)...)
}

func (d *decoder) text() string { return string(d.octets()) }

// epoch is 1601-01-01 in ticks of 100 ns before 1970.
const epoch = 116444736000000000

// moment reads a time; the zero one stands for none, and those that Go cannot hold for the
// nearest.
func (d *decoder) moment() time.Time {
	ticks := int64(d.u64())
	if ticks <= 0 {
		return time.Time{}
	}
	since := ticks - epoch
	return time.Unix(since/10_000_000, since%10_000_000*100).UTC()
}

var (
	timeType      = reflect.TypeFor[time.Time]()
	bytesType     = reflect.TypeFor[[]byte]()
	nodeType      = reflect.TypeFor[*ua.NodeID]()
	expandedType  = reflect.TypeFor[*ua.ExpandedNodeID]()
	variantType   = reflect.TypeFor[*ua.Variant]()
	valueType     = reflect.TypeFor[*ua.DataValue]()
	objectType    = reflect.TypeFor[*ua.ExtensionObject]()
	diagnosisType = reflect.TypeFor[*ua.DiagnosticInfo]()
	localType     = reflect.TypeFor[*ua.LocalizedText]()
	guidType      = reflect.TypeFor[*ua.GUID]()
)

// into reads a value of the type of v.
func (d *decoder) into(v reflect.Value, depth int) {
	if !d.tracing() {
		d.read(v, depth)
		return
	}
	from, said := d.at(), len(d.trace.fields)
	if d.read(v, depth); d.err == nil && len(d.trace.fields) == said {
		d.trace.add(from, d.at(), "", meaning(v))
	}
}

func (d *decoder) read(v reflect.Value, depth int) {
	if depth > mostDepth {
		d.fail("the message is nested more than %d deep", mostDepth)
	}
	if d.err != nil {
		return
	}
	switch v.Type() {
	case timeType:
		v.Set(reflect.ValueOf(d.moment()))
		return
	case bytesType:
		v.SetBytes(d.octets())
		return
	case nodeType:
		set(v, d.node(d.u8()))
		return
	case expandedType:
		set(v, d.expanded())
		return
	case variantType:
		set(v, d.variant(depth))
		return
	case valueType:
		set(v, d.dataValue(depth))
		return
	case objectType:
		set(v, d.object(depth))
		return
	case diagnosisType:
		set(v, d.diagnosis(depth))
		return
	case localType:
		set(v, d.localized())
		return
	case guidType:
		set(v, d.guid())
		return
	}
	switch v.Kind() {
	case reflect.Bool:
		v.SetBool(d.u8() != 0)
	case reflect.Int8:
		v.SetInt(int64(int8(d.u8())))
	case reflect.Uint8:
		v.SetUint(uint64(d.u8()))
	case reflect.Int16:
		v.SetInt(int64(int16(d.u16())))
	case reflect.Uint16:
		v.SetUint(uint64(d.u16()))
	case reflect.Int32:
		v.SetInt(int64(int32(d.u32())))
	case reflect.Uint32:
		v.SetUint(uint64(d.u32()))
	case reflect.Int64:
		v.SetInt(int64(d.u64()))
	case reflect.Uint64:
		v.SetUint(d.u64())
	case reflect.Float32:
		v.SetFloat(float64(math.Float32frombits(d.u32())))
	case reflect.Float64:
		v.SetFloat(math.Float64frombits(d.u64()))
	case reflect.String:
		v.SetString(d.text())
	case reflect.Pointer:
		made := reflect.New(v.Type().Elem())
		d.into(made.Elem(), depth+1)
		v.Set(made)
	case reflect.Struct:
		for i := range v.NumField() {
			d.trace.enter(v.Type().Field(i).Name)
			d.into(v.Field(i), depth)
			d.trace.leave()
		}
	case reflect.Slice:
		n := d.length(1)
		if n < 0 {
			return
		}
		list := reflect.MakeSlice(v.Type(), n, n)
		d.elementsInto(list, depth)
		v.Set(list)
	default:
		d.fail("a %s cannot be read", v.Type())
	}
}

// elementsInto reads the elements of an array, behind their number.
func (d *decoder) elementsInto(list reflect.Value, depth int) {
	if d.tracing() {
		d.mark(d.at()-4, "how many", fmt.Sprint(list.Len()))
	}
	for i := 0; i < list.Len() && d.err == nil; i++ {
		d.trace.index(i)
		d.into(list.Index(i), depth+1)
		d.trace.leave()
	}
}

// set puts what was read where it belongs, if there was no error.
func set[T any](v reflect.Value, made *T) {
	if made != nil {
		v.Set(reflect.ValueOf(made))
	}
}

// node reads an identifier (clause 5.2.2.9) behind its first octet.
func (d *decoder) node(encoding byte) *ua.NodeID {
	switch encoding & 0x3F {
	case 0:
		return ua.NewTwoByteNodeID(d.u8())
	case 1:
		space := d.u8()
		return ua.NewFourByteNodeID(space, d.u16())
	case 2:
		space := d.u16()
		return ua.NewNumericNodeID(space, d.u32())
	case 3:
		space := d.u16()
		return ua.NewStringNodeID(space, d.text())
	case 4:
		space := d.u16()
		if g := d.guid(); g != nil {
			return ua.NewGUIDNodeID(space, g.String())
		}
		return nil
	case 5:
		space := d.u16()
		return ua.NewByteStringNodeID(space, d.octets())
	}
	d.fail("an identifier begins with 0x%02X, which is none", encoding)
	return nil
}

func (d *decoder) guid() *ua.GUID {
	g := &ua.GUID{Data1: d.u32(), Data2: d.u16(), Data3: d.u16(), Data4: d.take(8)}
	if d.err != nil {
		return nil
	}
	return g
}

// expanded reads an identifier with the address of its namespace, and the number of a server,
// where it has them.
func (d *decoder) expanded() *ua.ExpandedNodeID {
	encoding := d.u8()
	id := d.node(encoding)
	if id == nil {
		return nil
	}
	e := &ua.ExpandedNodeID{}
	if encoding&0x80 != 0 {
		e.NamespaceURI = d.text()
	}
	if encoding&0x40 != 0 {
		e.ServerIndex = d.u32()
	}
	if e = ua.NewExpandedNodeID(id, e.NamespaceURI, e.ServerIndex); d.err != nil {
		return nil
	}
	return e
}

func (d *decoder) localized() *ua.LocalizedText {
	l := &ua.LocalizedText{EncodingMask: d.u8()}
	if l.EncodingMask&1 != 0 {
		l.Locale = d.text()
	}
	if l.EncodingMask&2 != 0 {
		l.Text = d.text()
	}
	return l
}

func (d *decoder) diagnosis(depth int) *ua.DiagnosticInfo {
	if depth > mostDepth {
		d.fail("the message is nested more than %d deep", mostDepth)
		return nil
	}
	i := &ua.DiagnosticInfo{EncodingMask: d.u8()}
	for bit, to := range []*int32{&i.SymbolicID, &i.NamespaceURI, &i.LocalizedText, &i.Locale} {
		if i.EncodingMask&(1<<bit) != 0 {
			*to = int32(d.u32())
		}
	}
	if i.EncodingMask&0x10 != 0 {
		i.AdditionalInfo = d.text()
	}
	if i.EncodingMask&0x20 != 0 {
		i.InnerStatusCode = ua.StatusCode(d.u32())
	}
	if i.EncodingMask&0x40 != 0 {
		i.InnerDiagnosticInfo = d.diagnosis(depth + 1)
	}
	return i
}

func (d *decoder) dataValue(depth int) *ua.DataValue {
	v := &ua.DataValue{EncodingMask: d.u8()}
	if d.tracing() {
		d.mark(d.at()-1, "what follows", fmt.Sprintf("0x%02X", v.EncodingMask))
	}
	if v.Has(ua.DataValueValue) {
		from := d.at()
		v.Value = d.variant(depth + 1)
		d.told(from + 1) // behind the octet that says of which type it is
	}
	if v.Has(ua.DataValueStatusCode) {
		v.Status = ua.StatusCode(d.u32())
		if d.tracing() {
			d.mark(d.at()-4, "StatusCode", family.Words(uint32(v.Status)))
		}
	}
	if v.Has(ua.DataValueSourceTimestamp) {
		v.SourceTimestamp = d.moment()
		if d.tracing() {
			d.mark(d.at()-8, "SourceTimestamp", moments(v.SourceTimestamp))
		}
	}
	if v.Has(ua.DataValueSourcePicoseconds) {
		v.SourcePicoseconds = d.u16()
		if d.tracing() {
			d.mark(d.at()-2, "SourcePicoseconds", fmt.Sprintf("%d × 10 ps", v.SourcePicoseconds))
		}
	}
	if v.Has(ua.DataValueServerTimestamp) {
		v.ServerTimestamp = d.moment()
		if d.tracing() {
			d.mark(d.at()-8, "ServerTimestamp", moments(v.ServerTimestamp))
		}
	}
	if v.Has(ua.DataValueServerPicoseconds) {
		v.ServerPicoseconds = d.u16()
		if d.tracing() {
			d.mark(d.at()-2, "ServerPicoseconds", fmt.Sprintf("%d × 10 ps", v.ServerPicoseconds))
		}
	}
	return v
}

// objects are the structures that are read inside of others, by the numbers of their encodings
// (annex A.3); others are passed over.
var objects = map[uint32]reflect.Type{
	321: reflect.TypeFor[ua.AnonymousIdentityToken](), 324: reflect.TypeFor[ua.UserNameIdentityToken](),
	327: reflect.TypeFor[ua.X509IdentityToken](), 340: reflect.TypeFor[ua.BuildInfo](),
	298: reflect.TypeFor[ua.Argument](), 122: reflect.TypeFor[ua.StructureDefinition](),
	123: reflect.TypeFor[ua.EnumDefinition](),
	724: reflect.TypeFor[ua.DataChangeFilter](), 811: reflect.TypeFor[ua.DataChangeNotification](),
	820: reflect.TypeFor[ua.StatusChangeNotification](), 864: reflect.TypeFor[ua.ServerStatusDataType](),
	886: reflect.TypeFor[ua.Range](), 889: reflect.TypeFor[ua.EUInformation](), 8251: reflect.TypeFor[ua.EnumValueType]()}

// object reads a structure of any kind (clause 5.2.2.15). One that is not known is a Body.
func (d *decoder) object(depth int) *ua.ExtensionObject {
	if depth > mostDepth {
		d.fail("the message is nested more than %d deep", mostDepth)
		return nil
	}
	from := d.at()
	o := &ua.ExtensionObject{TypeID: d.expanded(), EncodingMask: d.u8()}
	if d.err != nil || o.EncodingMask == 0 {
		return o
	}
	if d.tracing() {
		d.mark(from, "kind", o.TypeID.NodeID.String())
	}
	body := d.octets()
	if d.err != nil || o.EncodingMask != 1 {
		return o
	}
	of, known := objects[o.TypeID.NodeID.IntID()]
	if !known || o.TypeID.NodeID.Namespace() != 0 {
		o.Value = Body(body)
		return o
	}
	if d.tracing() {
		d.mark(d.at()-len(body)-4, "octets", fmt.Sprint(len(body)))
	}
	inner := &decoder{b: body, end: d.at(), elements: d.elements, trace: d.trace}
	made := reflect.New(of)
	inner.into(made.Elem(), depth+1)
	d.elements = inner.elements
	if inner.err != nil {
		d.fail("a %s cannot be read: %v", of.Name(), inner.err)
		return nil
	}
	o.Value = made.Interface()
	return o
}

// builtins are the types of a variant by their numbers (clause 5.1.2), with the least octets
// that one takes.
var builtins = map[byte]struct {
	of    reflect.Type
	least int
}{1: {reflect.TypeFor[bool](), 1}, 2: {reflect.TypeFor[int8](), 1}, 3: {reflect.TypeFor[byte](), 1},
	4: {reflect.TypeFor[int16](), 2},
	5: {reflect.TypeFor[uint16](), 2}, 6: {reflect.TypeFor[int32](), 4}, 7: {reflect.TypeFor[uint32](), 4},
	8: {reflect.TypeFor[int64](), 8},
	9: {reflect.TypeFor[uint64](), 8}, 10: {reflect.TypeFor[float32](), 4}, 11: {reflect.TypeFor[float64](), 8},
	12: {reflect.TypeFor[string](), 4},
	13: {timeType, 8}, 14: {guidType, 16}, 15: {bytesType, 4}, 16: {reflect.TypeFor[ua.XMLElement](), 4},
	17: {nodeType, 2},
	18: {expandedType, 2}, 19: {reflect.TypeFor[ua.StatusCode](), 4}, 20: {reflect.TypeFor[*ua.QualifiedName](), 6},
	21: {localType, 1},
	22: {objectType, 3}, 23: {valueType, 1}, 24: {variantType, 1}, 25: {diagnosisType, 1}}

// variant reads a value of any of the types, or an array of one (clause 5.2.2.16). Of an array
// of several dimensions the elements are read in one row.
func (d *decoder) variant(depth int) *ua.Variant {
	if depth > mostDepth {
		d.fail("the message is nested more than %d deep", mostDepth)
		return nil
	}
	mask := d.u8()
	if d.err != nil || mask&0x3F == 0 {
		return &ua.Variant{}
	}
	of, known := builtins[mask&0x3F]
	if !known {
		d.fail("a value has type %d, which is none", mask&0x3F)
		return nil
	}
	if d.tracing() {
		d.mark(d.at()-1, "type", fmt.Sprint(ua.TypeID(mask&0x3F)))
	}
	var made reflect.Value
	if mask&0x80 == 0 {
		made = reflect.New(of.of).Elem()
		d.into(made, depth+1)
	} else {
		kind := reflect.SliceOf(of.of)
		if mask&0x3F == 3 {
			kind = reflect.TypeFor[ua.ByteArray]()
		}
		made = reflect.Zero(kind)
		if n := d.length(of.least); n >= 0 {
			made = reflect.MakeSlice(kind, n, n)
			d.elementsInto(made, depth)
		}
	}
	if mask&0x40 != 0 {
		if n := d.length(4); n > 0 {
			d.take(4 * n)
		}
	}
	if d.err != nil {
		return nil
	}
	v, err := ua.NewVariant(made.Interface())
	if err != nil {
		d.fail("a value cannot be read: %v", err)
		return nil
	}
	return v
}
