package dnp3

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"ferry/internal/core/markup"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// Description is what files are called that describe outstations: the device profile of the standard
// in XML (IEEE 1815, annex F).
func (rules) Description() string { return "device profiles" }

// profileRoot is the element that such a file is.
const profileRoot = "DNP3DeviceProfileDocument"

// Described reports whether a file is one, by how it begins.
func (rules) Described(data []byte) bool {
	return bytes.Contains(data[:min(len(data), 4096)], []byte(profileRoot))
}

// Describe reads the points of a device profile.
func (rules) Describe(data []byte) (held []protocol.Held, unread []protocol.Unread, err error) {
	p, err := readProfile(data)
	if err != nil {
		return nil, nil, err
	}
	return p.held, p.unread, nil
}

// Drawing reports whether a device can be made of a file.
func (r rules) Drawing(data []byte) bool { return r.tcp && r.Described(data) }

// Draw makes a device of a device profile: its points, its name, and its address on the link.
func (rules) Draw(data []byte, _ int) (protocol.Drawn, error) {
	p, err := readProfile(data)
	if err != nil {
		return protocol.Drawn{}, err
	}
	d := protocol.Drawn{Name: p.name, Model: strings.TrimSpace(p.vendor + " " + p.name), Held: p.held, Unread: p.unread,
		Choices: []string{"as it is described"}, Ask: protocol.Settings{}, Answer: protocol.Settings{}}
	for key, text := range map[string]string{KeyOutstation: p.station, KeyMaster: p.master} {
		if n, err := strconv.Atoi(text); err == nil && n >= 0 && n <= mostStation {
			d.Ask[key], d.Answer[key] = protocol.OfInt(n), protocol.OfInt(n)
		} else {
			d.Unknown = append(d.Unknown, key)
		}
	}
	return d, nil
}

// profile is what is read of such a file.
type profile struct {
	name, vendor, station, master string
	held                          []protocol.Held
	unread                        []protocol.Unread
	now                           *described
}

// described is a point of a profile as it is read.
type described struct {
	line   int
	kind   Kind
	fields map[string]string
	states map[int]string
}

// profileKinds are the elements of points.
var profileKinds = map[string]Kind{"binaryInput": BinaryInput, "doubleBitInput": DoubleInput,
	"binaryOutput": BinaryOutput,
	"counter":      Counter, "frozenCounter": FrozenCounter, "analogInput": AnalogInput, "analogOutput": AnalogOutput,
	"octetString": OctetString}

// mostProfiled bounds the points of a profile.
const mostProfiled = 100_000

func readProfile(data []byte) (*profile, error) {
	p := &profile{}
	err := markup.Read(data, p.begin, p.end)
	switch {
	case err != nil:
		return nil, err
	case len(p.held) == 0 && len(p.unread) == 0:
		return nil, errors.New("it lists no points: profiles may leave them out")
	}
	return p, nil
}

func (p *profile) begin(e *markup.Element) error {
	if len(e.Path) == 1 && e.Name != profileRoot {
		return fmt.Errorf("it begins with %s: it is no device profile", e.Name)
	}
	if kind, is := profileKinds[e.Name]; is && e.Within("dataPoints") {
		p.now = &described{line: e.Line, kind: kind, fields: map[string]string{}, states: map[int]string{}}
	}
	return nil
}

// classWords are the classes as the schema names them.
var classWords = map[string]string{"none": "0", "one": "1", "two": "2", "three": "3", "0": "0", "1": "1", "2": "2",
	"3": "3"}

func (p *profile) end(e *markup.Element, text string) error {
	if p.now == nil {
		p.about(e, text)
		return nil
	}
	d := p.now
	if _, is := profileKinds[e.Name]; is {
		p.now = nil
		if len(p.held)+len(p.unread) >= mostProfiled {
			return fmt.Errorf("it lists more than %d points", mostProfiled)
		}
		h, err := d.held()
		if err != nil {
			p.unread = append(p.unread, protocol.Unread{Line: d.line, What: d.kind.Title() + " " + d.fields["index"],
				Reason: err.Error()})
			return nil
		}
		p.held = append(p.held, h)
		return nil
	}
	if text != "" {
		d.fields[e.Name] = text
	}
	if parent := e.Path[len(e.Path)-2]; text == "" && classWords[e.Name] != "" && strings.HasSuffix(parent, "EventClass") {
		d.fields[parent] = e.Name
	}
	for prefix, n := range map[string]int{"nameState": -1, "nameStateIntermediate": 0, "nameStateOff": 1, "nameStateOn": 2,
		"nameStateIndeterminate": 3} {
		if n < 0 {
			if i, err := strconv.Atoi(strings.TrimPrefix(e.Name, prefix)); err == nil && strings.HasPrefix(e.Name, prefix) {
				d.states[i] = text
			}
		} else if e.Name == prefix {
			d.states[n] = text
		}
	}
	return nil
}

// about takes what a profile says of the device as a whole.
func (p *profile) about(e *markup.Element, text string) {
	if e.Name != "value" || text == "" || !e.Within("currentValue") {
		return
	}
	switch {
	case e.Within("deviceName"):
		p.name = text
	case e.Within("vendorName"):
		p.vendor = text
	case e.Within("dataLinkAddress"):
		p.station = text
	case e.Within("sourceAddress") || e.Within("expectedSourceAddress"):
		p.master = text
	}
}

// held is the point that is described.
func (d *described) held() (h protocol.Held, err error) {
	index, err := strconv.ParseUint(d.fields["index"], 10, 32)
	if err != nil || index > mostIndex {
		return h, fmt.Errorf("its index is %q: it is a whole number from 0 to %d", d.fields["index"], mostIndex)
	}
	h = protocol.Held{Address: Object{Kind: d.kind, Index: uint32(index)}.Address(), Name: d.fields["name"],
		Remark: d.fields["description"], Unit: d.fields["units"],
		Shape: value.Shape{Type: d.kind.Holds(), Bit: -1}, Writable: d.kind.Command() != 0}
	if h.Name == "" {
		h.Name = fmt.Sprintf("%s %d", d.kind.Title(), index)
	}
	if h.Shape.Type.IsText() {
		h.Shape.Length = 64
	}
	if h.Unit == "" {
		h.Unit = d.fields["unit"]
	}
	for _, key := range []string{"changeEventClass", "defaultEventClass", "eventClass", "counterEventClass"} {
		if class := classWords[strings.ToLower(d.fields[key])]; class != "" {
			h.Told = class
			break
		}
	}
	number := func(key string, into *float64) {
		if text := d.fields[key]; text != "" && err == nil {
			if *into, err = strconv.ParseFloat(text, 64); err != nil {
				err = fmt.Errorf("its %s is %q, which is no number", key, text)
			}
		}
	}
	if d.kind == AnalogInput || d.kind == AnalogOutput {
		number("scaleFactor", &h.Factor)
		number("scaleOffset", &h.Offset)
		number("deadband", &h.Band)
		if h.Factor == 0 {
			h.Factor = 1
		}
		h.Band *= h.Factor
	}
	if len(d.states) > 0 {
		h.Names = d.states
	}
	return h, err
}

// DescribeOut is places as a device profile.
func (rules) DescribeOut(_ protocol.Whose, held []protocol.Held, at time.Time) []byte {
	var b bytes.Buffer
	b.WriteString(xml.Header)
	fmt.Fprintf(&b, "<%s xmlns=\"http://www.dnp3.org/DNP3/DeviceProfile/Jan2010\" schemaVersion=\"2.07.00\">\n"+
		"  <documentHeader>\n    <documentName>Points, as Ferry has them</documentName>\n    <revisionHistory>\n"+
		"      <date>%s</date>\n      <time>%s</time>\n      <version>1</version>\n    </revisionHistory>\n  </documentHeader>\n"+
		"  <referenceDevice>\n    <dataPointsList>\n", profileRoot, at.UTC().Format(time.DateOnly),
		at.UTC().Format(time.TimeOnly))
	for _, k := range Kinds() {
		open := false
		for i := range held {
			o, ok := ObjectOf(held[i].Address)
			if !ok || o.Kind != k {
				continue
			}
			if !open {
				fmt.Fprintf(&b, "      <%sPoints>\n        <dataPoints>\n", elementOf(k))
				open = true
			}
			describe(&b, o, &held[i])
		}
		if open {
			fmt.Fprintf(&b, "        </dataPoints>\n      </%sPoints>\n", elementOf(k))
		}
	}
	fmt.Fprintf(&b, "    </dataPointsList>\n  </referenceDevice>\n</%s>\n", profileRoot)
	return b.Bytes()
}

// DescribedAs is how the names of such files end.
func (rules) DescribedAs() (ending, media string) { return ".profile.xml", "application/xml" }

func elementOf(k Kind) string {
	for name, is := range profileKinds {
		if is == k {
			return name
		}
	}
	return ""
}

// describe writes a point.
func describe(b *bytes.Buffer, o Object, h *protocol.Held) {
	element := func(name, text string) {
		if text != "" {
			fmt.Fprintf(b, "            <%s>", name)
			_ = xml.EscapeText(b, []byte(text)) // a buffer takes everything
			fmt.Fprintf(b, "</%s>\n", name)
		}
	}
	number := func(name string, f float64) {
		if f != 0 {
			element(name, strconv.FormatFloat(f, 'g', -1, 64))
		}
	}
	fmt.Fprintf(b, "          <%s>\n", elementOf(o.Kind))
	element("index", strconv.FormatUint(uint64(o.Index), 10))
	element("name", h.Name)
	element("description", h.Remark)
	for word, class := range classWords {
		if class == h.Told && len(word) > 1 {
			element("changeEventClass", word)
		}
	}
	if o.Kind == AnalogInput || o.Kind == AnalogOutput {
		factor := h.Factor
		if factor == 0 {
			factor = 1
		}
		number("scaleFactor", factor)
		number("scaleOffset", h.Offset)
		element("units", h.Unit)
		number("deadband", h.Band/factor)
	}
	for i := range 4 {
		if name, ok := h.Names[i]; ok {
			element(fmt.Sprintf("nameState%d", i), name)
		}
	}
	fmt.Fprintf(b, "          </%s>\n", elementOf(o.Kind))
}
