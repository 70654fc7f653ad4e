package opcua

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/gopcua/opcua/ua"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/opcua"
)

// trace is what stands where in a body: names as the standard has them, in the order of the
// octets.
type trace struct {
	path   []string
	fields []exchange.Field
	// values are the octets of values with their time and status, where one is wanted.
	values *[][2]int
	silent bool // nothing else is
}

// mostFields bounds what is said of one message.
const mostFields = 4000

func (t *trace) enter(name string) {
	if t != nil && !t.silent {
		t.path = append(t.path, name)
	}
}

// index goes into an element of an array.
func (t *trace) index(i int) {
	if t == nil || t.silent {
		return
	}
	last := ""
	if n := len(t.path); n > 0 {
		last = t.path[n-1]
	}
	t.path = append(t.path, fmt.Sprintf("%s[%d]", last, i))
}

func (t *trace) leave() {
	if t != nil && !t.silent {
		t.path = t.path[:len(t.path)-1]
	}
}

// add says what some octets are; name is behind that of what they are in.
func (t *trace) add(from, to int, name, meaning string) {
	if from >= to || len(t.fields) >= mostFields {
		return
	}
	path := t.path
	if name != "" {
		path = append(path[:len(path):len(path)], name)
	}
	// Of where it stands the last two names are enough; an element has that of its array.
	label := strings.Join(path[max(0, len(path)-2):], " ")
	if n := len(path); n > 1 && strings.HasPrefix(path[n-1], path[n-2]+"[") {
		label = path[n-1]
	}
	t.fields = append(t.fields, exchange.Field{From: from, To: to, Label: label, Role: "data", Meaning: meaning})
}

// at is how far the decoder is.
func (d *decoder) at() int { return d.end - len(d.b) }

// tracing reports whether it is to be said what stands where.
func (d *decoder) tracing() bool { return d.trace != nil && !d.trace.silent }

// mark says what the octets since from are.
func (d *decoder) mark(from int, name, meaning string) {
	if d.err == nil {
		d.trace.add(from, d.at(), name, meaning)
	}
}

// told notes where a value stands.
func (d *decoder) told(from int) {
	if d.trace != nil && d.trace.values != nil && d.err == nil {
		*d.trace.values = append(*d.trace.values, [2]int{from, d.at()})
	}
}

func moments(t time.Time) string {
	if t.IsZero() {
		return "none"
	}
	return t.UTC().Format("2006-01-02 15:04:05.0000000")
}

// meaning is a value as people read it.
func meaning(v reflect.Value) string {
	switch of := v.Interface().(type) {
	case time.Time:
		return moments(of)
	case ua.StatusCode:
		if of == ua.StatusOK {
			return "Good"
		}
		return family.Words(uint32(of))
	case []byte:
		if of == nil {
			return "none"
		}
		return fmt.Sprintf("%d octets", len(of))
	case *ua.NodeID:
		if of != nil {
			return of.String()
		}
	case *ua.ExpandedNodeID:
		if of != nil && of.NodeID != nil {
			return of.NodeID.String()
		}
	case *ua.LocalizedText:
		if of != nil {
			return short(of.Text)
		}
	case *ua.Variant:
		if of == nil || of.Value() == nil {
			return "nothing"
		}
	case *ua.ExtensionObject:
		if of == nil || of.TypeID == nil || of.TypeID.NodeID == nil {
			return "nothing"
		}
		return "of kind " + of.TypeID.NodeID.String()
	case *ua.DiagnosticInfo:
		return "no more is said"
	case string:
		return short(of)
	}
	switch v.Kind() {
	case reflect.Slice:
		return "none"
	case reflect.Pointer:
		return ""
	}
	return fmt.Sprint(v.Interface())
}

// short is a text of bounded length.
func short(text string) string {
	const most = 120
	if runes := []rune(text); len(runes) > most {
		return string(runes[:most]) + "…"
	}
	return text
}

// secrets are what nobody may read in a recording: of who opens a channel what its keys are made
// of, and of users their passwords.
var secrets = []string{"Nonce", "Password"}

// mask stars secrets out of the messages that have some, as far as they stand in these octets.
func mask(body []byte) {
	switch _, of := serviceOf(body); of {
	case reflect.TypeFor[ua.OpenSecureChannelRequest](), reflect.TypeFor[ua.OpenSecureChannelResponse](),
		reflect.TypeFor[ua.ActivateSessionRequest]():
		d := &decoder{b: body, end: len(body), trace: &trace{}}
		d.expanded()
		d.whole(reflect.New(of).Interface())
		done := 0
		for _, f := range d.trace.fields {
			done = f.To
			if slices.ContainsFunc(secrets, func(s string) bool { return strings.HasSuffix(f.Label, s) }) {
				for i := f.From + 4; i < f.To; i++ { // behind its length
					body[i] = '*'
				}
			}
		}
		for i := done; d.err != nil && i < len(body); i++ {
			body[i] = '*' // what is cut short may be one
		}
	}
}
