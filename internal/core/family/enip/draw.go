package enip

import (
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"

	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// Drawing reports whether a file is a data sheet.
func (cyclicRules) Drawing(data []byte) bool { return rules{}.Described(data) }

// Bits of the parameters of a connection (volume 1, clause 7-3.6.10.2): the real-time
// formats of both directions from bit 8 and 12 on, and to how many it sends from bit 20 on.
const (
	outFormatAt = 8
	inFormatAt  = 12
	inCastAt    = 20
	castMany    = 2
	castOne     = 4
)

// formats are the real-time formats by their numbers there.
var formats = map[uint32]string{0: FormatPlain, 1: FormatPlain, 3: FormatHeartbeat, 4: FormatHeader}

// Draw makes a device of a data sheet: the settings of both ends of one of its connections,
// the members of its assemblies, and its parameters as explicit attributes.
func (cyclicRules) Draw(data []byte, choice int) (d protocol.Drawn, err error) {
	e, err := ParseEDS(data)
	if err != nil {
		return d, err
	}
	if len(e.Connections) == 0 {
		return d, errors.New("it describes no cyclic connection: bring it into the map of a device that is asked explicitly")
	}
	if choice < 0 || choice >= len(e.Connections) {
		return d, fmt.Errorf("it describes %d connections: choose one of them", len(e.Connections))
	}
	c := &e.Connections[choice]
	for i := range e.Connections {
		d.Choices = append(d.Choices, e.Connections[i].Name)
	}
	d.Name, d.Model = e.Name, strings.TrimSpace(e.VendorName+" "+e.Name)
	d.Connections, d.PerSecond, d.AsideOf = e.MaxIO, float64(e.PerSecond), Explicit.Name
	l := &drawing{eds: &e, of: map[string]*Param{}}
	for i := range e.Params {
		l.of[fmt.Sprintf("param%d", e.Params[i].Number)] = &e.Params[i]
	}
	if err := l.connection(c, &d); err != nil {
		return d, fmt.Errorf("connection %q: %w", c.Name, err)
	}
	aside, _, err := rules{}.Describe(data)
	for _, h := range aside {
		if at, ok := AttributeOf(h.Address); ok && at.Class != 4 {
			d.Aside = append(d.Aside, h)
		}
	}
	if err != nil {
		err = nil // it has cyclic connections alone
	}
	d.Unread = e.Unread
	return d, err
}

// drawing is a data sheet whose parts refer to one another.
type drawing struct {
	eds *EDS
	of  map[string]*Param
}

// number is a value that stands there, or the usual one of a parameter.
func (l *drawing) number(text string) (n int, ok bool) {
	if p := l.of[strings.ToLower(strings.TrimSpace(text))]; p != nil {
		text = p.Usual
	}
	n, err := whole(text)
	return n, err == nil && n >= 0
}

func (l *drawing) assembly(ref string) *Assembly {
	n, is := numbered(strings.TrimSpace(ref), "assem")
	for i := range l.eds.Assemblies {
		if is && l.eds.Assemblies[i].Number == n {
			return &l.eds.Assemblies[i]
		}
	}
	return nil
}

// connection sets both ends.
func (l *drawing) connection(c *Connection, d *protocol.Drawn) error {
	points, err := pointsOf(c.Path)
	if err != nil {
		return err
	}
	n, text, on := protocol.OfInt, protocol.OfText, protocol.OfSwitch
	outFormat, inFormat := formats[c.Params>>outFormatAt&7], formats[c.Params>>inFormatAt&7]
	if outFormat == "" || inFormat == "" {
		return errors.New("its real-time format is one that is not known here")
	}
	if inFormat == FormatHeartbeat {
		inFormat = FormatPlain
	}
	d.Ask, d.Answer, d.Sizes = protocol.Settings{}, protocol.Settings{}, map[string]int{}
	both := func(key string, v protocol.Scalar) { d.Ask[key], d.Answer[key] = v, v }
	both(KeyOutInstance, n(points[1]))
	both(KeyInInstance, n(points[2]))
	both(KeyConfigAt, n(points[0]))
	outs, err := l.direction(AreaOut, c.OutSize, c.OutFormat, d)
	if err != nil {
		return err
	}
	ins, err := l.direction(AreaIn, c.InSize, c.InFormat, d)
	if err != nil {
		return err
	}
	outs.set(d.Ask, KeyOutCount, KeyOutWidth)
	ins.set(d.Ask, KeyInCount, KeyInWidth)
	d.Ask[KeyOutFormat], d.Ask[KeyInFormat] = text(outFormat), text(inFormat)
	d.Answer[KeyOutOctets], d.Answer[KeyInOctets] = n(outs.octets), n(ins.octets)
	d.Answer[KeyOutHead], d.Answer[KeyInHead] = on(outFormat == FormatHeader), on(inFormat == FormatHeader)
	if c.Params>>inCastAt&7 == castMany {
		d.Ask[KeyInCast] = text("many")
	}
	for key, ref := range map[string]string{KeyOutEvery: c.OutEvery, KeyInEvery: c.InEvery} {
		if us, ok := l.number(ref); ok && us > 0 {
			d.Ask[key] = n(min(60_000, max(1, int(math.Ceil(float64(us)/1000)))))
		}
	}
	l.configuration(c, d)
	is := Key{max(0, l.eds.Vendor), max(0, l.eds.Type), max(0, l.eds.Product), max(0, l.eds.Major), max(0, l.eds.Minor)}
	if fits := is.Vendor < 1<<16 && is.Type < 1<<16 && is.Product < 1<<16 && is.Major < 128 && is.Minor < 256; fits &&
		is != (Key{}) {
		for key, v := range is.settings() {
			d.Ask[key] = v
		}
		d.Ask[KeyKey], d.Answer[KeyIdentity] = text(KeyCompatible), text(is.Text())
	}
	return nil
}

// pointsOf are the instances of a path to assemblies: of the configuration, consumed and
// produced.
func pointsOf(path []byte) (points [3]int, err error) {
	found := 0
	for len(path) >= 2 {
		kind, width := path[0], 2
		n := int(path[1])
		if kind&3 == 1 && len(path) >= 4 {
			n, width = int(path[2])|int(path[3])<<8, 4
		}
		switch path = path[width:]; kind &^ 3 {
		case 0x20:
			if n != 4 {
				return points, fmt.Errorf("its path leads to class %d, and not to assemblies", n)
			}
		case 0x24, 0x2C:
			if found < len(points) {
				points[found] = n
			}
			found++
		default:
			return points, fmt.Errorf("its path has a part %02X that is not known here", kind)
		}
	}
	if found != len(points) {
		return points, fmt.Errorf("its path names %d instances, and 3 are needed: configuration, consumed and produced",
			found)
	}
	return points, nil
}

// configuration says whether it wants one, and with what.
func (l *drawing) configuration(c *Connection, d *protocol.Drawn) {
	size, told := l.number(c.ConfigSize)
	a := l.assembly(c.ConfigFormat)
	if !told && a != nil && a.Octets >= 0 {
		size, told = a.Octets, true
	}
	switch {
	case !told:
		d.Unknown = append(d.Unknown, KeyWants)
	case size == 0:
		d.Answer[KeyWants] = protocol.OfText("any")
	default:
		d.Answer[KeyWants], d.Answer[KeyWantsSize] = protocol.OfText(ConfigData), protocol.OfInt(size)
		for key, v := range (cyclicRules{}).Configure(l.usual(a, size)) {
			d.Ask[key] = v
		}
		if a != nil {
			var members []standingMember
			l.members(a, 0, 0, &members)
			l.hold(AreaConfig, members, d)
		}
	}
}

// usual are the octets of an assembly in which every parameter is as it is usually.
func (l *drawing) usual(a *Assembly, size int) []byte {
	data := make([]byte, min(size, mostConfig))
	if a == nil {
		return data
	}
	bit := 0
	for _, m := range a.Members {
		p := l.of[strings.ToLower(m.Ref)]
		bits := m.Bits
		if bits == 0 && p != nil {
			bits = 8 * p.Octets
		}
		if p != nil && bits <= 64 {
			if n, err := strconv.ParseFloat(p.Usual, 64); err == nil {
				raw := uint64(int64(n))
				if p.Kind == REAL {
					raw = uint64(math.Float32bits(float32(n)))
				}
				for i := range bits {
					if at := bit + i; at/8 < len(data) && raw>>i&1 == 1 {
						data[at/8] |= 1 << (at % 8)
					}
				}
			}
		}
		bit += bits
	}
	return data
}

func spacedHex(b []byte) string { return strings.TrimSpace(fmt.Sprintf("% x", b)) }

// laid is what one direction carries.
type laid struct {
	octets int
	// width is that of all members, where they are of one; 1 otherwise.
	width int
}

func (w *laid) set(s protocol.Settings, count, width string) {
	s[count], s[width] = protocol.OfInt(w.octets/w.width), protocol.OfText(strconv.Itoa(w.width))
}

// direction lays the members of an assembly out, and returns its size.
func (l *drawing) direction(area, size, format string, d *protocol.Drawn) (laid, error) {
	w := laid{width: 1}
	a := l.assembly(format)
	if a == nil {
		if n, ok := l.number(size); ok {
			w.octets = n
			d.Sizes[area] = n
			return w, nil
		}
		if strings.TrimSpace(size) == "" {
			return w, nil
		}
		return w, fmt.Errorf("the size of its %s is %q, which is none",
			map[string]string{AreaIn: "inputs", AreaOut: "outputs"}[area], size)
	}
	var members []standingMember
	bits := l.members(a, 0, 0, &members)
	w.octets = (bits + 7) / 8
	if a.Octets >= 0 {
		w.octets = a.Octets
	}
	if n, ok := l.number(size); ok && n > 0 && n <= mostAssembly {
		w.octets = n
	}
	if w.octets > mostAssembly {
		return w, fmt.Errorf("an assembly of %d octets: %d are the most", w.octets, mostAssembly)
	}
	d.Sizes[area] = max(w.octets, (bits+7)/8)
	same := -1
	for _, m := range members {
		if m.bits%8 != 0 || same >= 0 && same != m.bits/8 {
			same = 0
			break
		}
		same = m.bits / 8
	}
	if (same == 2 || same == 4 || same == 8) && w.octets%same == 0 {
		w.width = same
	}
	l.hold(area, members, d)
	return w, nil
}

// hold makes places of the members of an assembly.
func (l *drawing) hold(area string, members []standingMember, d *protocol.Drawn) {
	for _, m := range members {
		if h, ok := m.held(area); ok {
			d.Held = append(d.Held, h)
		} else {
			d.Unread = append(d.Unread, protocol.Unread{What: m.param.Name,
				Reason: fmt.Sprintf("%d bits at bit %d of an assembly "+"are no value that can be read there", m.bits, m.at)})
		}
	}
}

// standingMember is a parameter at a bit of an assembly.
type standingMember struct {
	param    *Param
	at, bits int
}

// mostNested and mostMembers bound assemblies that are made of others.
const (
	mostNested  = 8
	mostMembers = 20_000
)

// members lists those of an assembly and of the assemblies in it, and returns how many bits
// they take.
func (l *drawing) members(a *Assembly, at, depth int, list *[]standingMember) (bits int) {
	for _, m := range a.Members {
		p, inner := l.of[strings.ToLower(m.Ref)], l.assembly(m.Ref)
		size := m.Bits
		switch {
		case len(*list) >= mostMembers || at+bits > 8*mostAssembly:
			return bits
		case p != nil:
			if size == 0 {
				size = 8 * p.Octets
			}
			*list = append(*list, standingMember{p, at + bits, size})
		case inner != nil && depth < mostNested:
			within := l.members(inner, at+bits, depth+1, list)
			size = max(size, within)
		}
		bits += size
	}
	return bits
}

// held makes a place of a member, where it is a value that can be read.
func (m *standingMember) held(area string) (h protocol.Held, ok bool) {
	p := m.param
	a := block.At(area, uint32(m.at/8))
	shape := value.Shape{Type: p.Kind.Type(), Bit: -1}
	switch {
	case m.bits == 1:
		shape, a = value.Shape{Type: value.TypeBool, Bit: m.at % 8}, block.WithBit(a, m.at%8)
	case m.bits < 8 && m.bits > 0 && m.at%8+m.bits <= 8:
		shape, a = value.Shape{Type: value.TypeBits, Length: m.bits, Bit: m.at % 8}, block.WithBit(a, m.at%8)
	case shape.Type == "" || shape.Type.IsText() || m.at%8 != 0 || 8*p.Kind.Octets() != m.bits:
		return h, false
	}
	h = protocol.Held{Address: a, Name: p.Name, Shape: shape, Unit: p.Unit, Remark: p.Help, Writable: area == AreaOut}
	p.dress(&h)
	return h, true
}
