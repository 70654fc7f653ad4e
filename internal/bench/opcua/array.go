package opcua

import (
	"reflect"

	"github.com/gopcua/opcua/ua"

	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	target "ferry/internal/target/opcua"
)

// mostElements is how many an array of a stand-in has at most.
const mostElements = 1000

// array is a node that holds several values; those that the map does not have stay as they are
// at first.
type array struct {
	host     *host
	kind     ua.TypeID
	elements []protocol.Held // with no address: not in the map
}

func (a *array) add(i int, held protocol.Held) {
	for len(a.elements) <= i {
		a.elements = append(a.elements, protocol.Held{})
	}
	a.elements[i] = held
}

func (a *array) read() *ua.DataValue {
	of := reflect.TypeOf(target.Typed(value.OfUint(0), a.kind))
	list := reflect.MakeSlice(reflect.SliceOf(of), len(a.elements), len(a.elements))
	if a.kind == ua.TypeIDByte {
		list = reflect.MakeSlice(reflect.TypeFor[ua.ByteArray](), len(a.elements), len(a.elements))
	}
	for i, held := range a.elements {
		if v, ok := a.host.of.Memory.Value(held.Address); ok {
			list.Index(i).Set(reflect.ValueOf(target.Typed(v, a.kind)))
		}
	}
	return a.host.told(list.Interface())
}

func (a *array) writeAt(by target.By, i int, v any) ua.StatusCode {
	if held := a.elements[i]; held.Writable {
		return a.host.writes(held)(by, v)
	}
	return ua.StatusBadNotWritable
}
