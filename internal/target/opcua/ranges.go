package opcua

import (
	"reflect"
	"strconv"
	"strings"

	"github.com/gopcua/opcua/ua"
)

// elements reads a range of an array, "3" or "2:5" with the last one within it (OPC 10000-4,
// clause 7.27).
func elements(index string) (from, to int, ok bool) {
	first, last, more := strings.Cut(index, ":")
	if !more {
		last = first
	}
	low, err := strconv.ParseUint(first, 10, 31)
	high, err2 := strconv.ParseUint(last, 10, 31)
	return int(low), int(high), err == nil && err2 == nil && (!more || low < high)
}

// ranged is a part of an array, where that is asked for: as much of it as there is.
func ranged(v *ua.DataValue, index string) *ua.DataValue {
	if index == "" || v.Value == nil {
		return v
	}
	from, to, ok := elements(index)
	if !ok {
		return Bad(ua.StatusBadIndexRangeInvalid)
	}
	list := reflect.ValueOf(v.Value.Value())
	if !v.Value.Has(ua.VariantArrayValues) || from >= list.Len() {
		return Bad(ua.StatusBadIndexRangeNoData)
	}
	part, err := ua.NewVariant(list.Slice(from, min(to+1, list.Len())).Interface())
	if err != nil {
		return Bad(ua.StatusBadDataEncodingUnsupported)
	}
	out := *v
	out.Value = part
	return &out
}

// putRange writes elements of an array, or all of it. What does not fit as a whole writes
// nothing.
func (v *Variable) putRange(by By, to *ua.Variant, index string) ua.StatusCode {
	if !to.Has(ua.VariantArrayValues) {
		return ua.StatusBadTypeMismatch
	}
	is, given := v.Read().Value, reflect.ValueOf(to.Value())
	if is == nil || !is.Has(ua.VariantArrayValues) {
		return ua.StatusBadIndexRangeNoData
	}
	length := reflect.ValueOf(is.Value()).Len()
	from, last := 0, length-1
	if index != "" {
		var ok bool
		if from, last, ok = elements(index); !ok {
			return ua.StatusBadIndexRangeInvalid
		}
	}
	if last >= length || given.Len() != last-from+1 {
		return ua.StatusBadIndexRangeNoData
	}
	for i := range given.Len() {
		if code := v.WriteAt(by, from+i, given.Index(i).Interface()); code != ua.StatusOK {
			return code
		}
	}
	return ua.StatusOK
}
