package mqtt

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"ferry/internal/core/value"
)

// Payload is what a message says: a value, and what comes with it where the payload
// is an object that has it.
type Payload struct {
	Value   value.Value
	Time    time.Time     // zero for none
	Quality value.Quality // empty for none
	Unit    string
	// Reason, Low, High and Text are as in protocol.Note.
	Reason    string
	Low, High *float64
	Text      string
}

// mostPayload bounds a payload that is read.
const mostPayload = 1 << 20

// Read finds the value of a place in a payload: the whole of it where the path is
// empty, and is not an object with a member "value". It fails where there is none,
// or it is another kind of thing than the shape holds.
func Read(data []byte, path []string, shape value.Shape) (p Payload, err error) {
	if len(data) > mostPayload {
		return p, fmt.Errorf("the payload has %d octets", len(data))
	}
	if len(data) == 0 {
		return p, errors.New("the payload is empty")
	}
	if shape.Type.IsText() && len(path) == 0 && !bytes.HasPrefix(bytes.TrimSpace(data), []byte("{")) {
		p.Value = value.OfText(string(data))
		return p, nil
	}
	d := json.NewDecoder(bytes.NewReader(data))
	d.UseNumber()
	var node any
	if err := d.Decode(&node); err != nil || d.More() {
		if len(path) > 0 {
			return p, errors.New("the payload is no JSON")
		}
		if p.Value, err = fromText(strings.TrimSpace(string(data)), shape); err != nil {
			return p, err
		}
		return p, nil
	}
	for i, member := range path {
		object, ok := node.(map[string]any)
		if !ok {
			return p, fmt.Errorf("$.%s of the payload is no object", strings.Join(path[:i], "."))
		}
		if node, ok = object[member]; !ok {
			return p, fmt.Errorf("the payload has no $.%s", strings.Join(path[:i+1], "."))
		}
		p.beside(object)
	}
	if object, ok := node.(map[string]any); ok {
		p.beside(object)
		if node, ok = object["value"]; !ok {
			return p, errors.New("the payload is an object without a value: name its member in the address, as $.oxygen")
		}
	}
	p.Value, err = fromJSON(node, shape)
	return p, err
}

// beside takes up the time, quality and unit that an object has beside its value.
func (p *Payload) beside(object map[string]any) {
	if text, ok := object["unit"].(string); ok {
		p.Unit = text
	}
	switch t := object["time"].(type) {
	case string:
		if at, err := time.Parse(time.RFC3339Nano, t); err == nil {
			p.Time = at
		}
	case json.Number:
		if ms, err := t.Int64(); err == nil {
			p.Time = time.UnixMilli(ms)
		}
	}
	if text, ok := object["quality"].(string); ok {
		switch strings.ToLower(text) {
		case "good":
			p.Quality = value.Good
		case "bad":
			p.Quality = value.Bad
		default:
			p.Quality = value.Doubtful
		}
	}
}

func fromJSON(v any, shape value.Shape) (value.Value, error) {
	switch v := v.(type) {
	case bool:
		if shape.Type == value.TypeBool {
			return value.OfBool(v), nil
		}
		return value.Value{}, fmt.Errorf("it came as %t, and the map has it as %s", v, shape.Type)
	case string:
		return fromText(v, shape)
	case json.Number:
		return fromText(v.String(), shape)
	case nil:
		return value.Value{}, errors.New("the payload says that there is no value: null")
	}
	return value.Value{}, errors.New("it came as an object or a list: name the member in the address, as $.oxygen")
}

func fromText(text string, shape value.Shape) (value.Value, error) {
	switch {
	case shape.Type.IsText():
		return value.OfText(text), nil
	case shape.Type == value.TypeBool:
		switch strings.ToLower(text) {
		case "1", "true", "on":
			return value.OfBool(true), nil
		case "0", "false", "off":
			return value.OfBool(false), nil
		}
		return value.Value{}, fmt.Errorf("it came as %.40q, which is neither on nor off", text)
	case shape.Type.IsTime():
		if at, err := time.Parse(time.RFC3339Nano, text); err == nil {
			return value.OfMoment(at.UnixMilli()), nil
		}
		return value.Value{}, fmt.Errorf("it came as %.40q, which is no time", text)
	}
	if n, err := strconv.ParseInt(text, 10, 64); err == nil {
		return value.OfInt(n), nil
	}
	if n, err := strconv.ParseUint(text, 10, 64); err == nil {
		return value.OfUint(n), nil
	}
	f, err := strconv.ParseFloat(text, 64)
	if err != nil {
		return value.Value{}, fmt.Errorf("it came as %.40q, which is no number", text)
	}
	return value.OfFloat(f), nil
}

// Plain is a value as the whole of a payload: a number in decimal, on and off as 1
// and 0, a time as RFC 3339, a text as it is.
func Plain(v value.Value) []byte {
	switch v.Kind() {
	case value.Bool:
		return strconv.AppendUint(nil, v.Uint(), 10)
	case value.Text:
		return []byte(v.Text())
	case value.Float:
		return strconv.AppendFloat(nil, v.Float(), 'g', -1, 64)
	case value.Moment:
		return []byte(time.UnixMilli(v.Int()).UTC().Format(time.RFC3339Nano))
	case value.Span:
		return strconv.AppendFloat(nil, v.Float(), 'g', -1, 64)
	}
	return []byte(v.String())
}

// object is a payload with what comes with the value. Its members are in this order.
type object struct {
	Value   value.Value `json:"value"`
	Time    string      `json:"time,omitempty"`
	Quality string      `json:"quality,omitempty"`
	Unit    string      `json:"unit,omitempty"`
	Reason  string      `json:"reason,omitempty"`
	Low     *float64    `json:"low,omitempty"`
	High    *float64    `json:"high,omitempty"`
	Text    string      `json:"text,omitempty"`
}

// JSON is a payload as an object with value, time, quality, unit, and what else there
// is beside the value.
func (p *Payload) JSON() ([]byte, error) {
	o := object{Value: p.Value, Quality: string(p.Quality), Unit: p.Unit, Reason: p.Reason, Low: p.Low, High: p.High,
		Text: p.Text}
	if !p.Time.IsZero() {
		o.Time = p.Time.UTC().Format("2006-01-02T15:04:05.000Z07:00")
	}
	return json.Marshal(o)
}

// Put sets the member at a path of an object of JSON, which it makes where there is
// none; data is what it was, empty for nothing yet.
func Put(data []byte, path []string, v value.Value) ([]byte, error) {
	root := map[string]any{}
	if len(data) > 0 {
		d := json.NewDecoder(bytes.NewReader(data))
		d.UseNumber()
		if err := d.Decode(&root); err != nil {
			root = map[string]any{} // it was no object
		}
	}
	at := root
	for _, member := range path[:len(path)-1] {
		next, ok := at[member].(map[string]any)
		if !ok {
			next = map[string]any{}
			at[member] = next
		}
		at = next
	}
	at[path[len(path)-1]] = v
	return json.Marshal(root)
}
