package enip

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// Services of the message router (CIP volume 1, appendix A) and of controllers with tags.
const (
	GetAll           = 0x01
	Reset            = 0x05
	Multiple         = 0x0A
	GetSingle        = 0x0E
	SetSingle        = 0x10
	ReadTag          = 0x4C
	WriteTag         = 0x4D
	ForwardClose     = 0x4E // of the connection manager
	ModifyTag        = 0x4E // of a tag: its bits, with masks
	ReadPart         = 0x52 // of a tag; of the connection manager: to send without a connection
	WritePart        = 0x53
	ForwardOpen      = 0x54
	ListTags         = 0x55
	LargeForwardOpen = 0x5B
	answers          = 0x80 // is added to that of an answer
)

// Classes of objects.
const (
	ClassIdentity   = 0x01
	ClassRouter     = 0x02
	ClassAssembly   = 0x04
	ClassConnection = 0x06 // the connection manager
	ClassSymbol     = 0x6B
	ClassTCPIP      = 0xF5
	ClassEthernet   = 0xF6
)

// Path is where a message goes: a name with members, or class, instance and attribute.
type Path struct {
	Names []Name
	// Class, Instance and Attribute are -1 where the path has none.
	Class, Instance, Attribute int
	// Points are connection points: of a cyclic connection configuration, consumed and
	// produced, as many as there are.
	Points []int
	// Key is the electronic key, nil for none.
	Key *Key
	// Data is that of a simple data segment, nil for none: that of the configuration.
	Data []byte
	// HasData tells an empty data segment from none.
	HasData bool
	// Ports are what leads to another module: port and link address each.
	Ports [][2]int
}

// Name is a part of a name, with the indexes behind it.
type Name struct {
	Text    string
	Indexes []uint32
}

// Key says which device is meant (volume 1, appendix C-1.4.2.4). 0 of a number is any.
type Key struct {
	Vendor, Type, Product uint16
	Major, Minor          uint8
	// Compatible is set where one that can stand in for it is good enough.
	Compatible bool
}

// PathTo is the path of an attribute; attribute is -1 for none, instance too.
func PathTo(class, instance, attribute int) Path {
	return Path{Class: class, Instance: instance, Attribute: attribute}
}

// AppendPath appends a path with its length in words.
func AppendPath(dst []byte, p *Path) []byte {
	at := len(dst)
	dst = append(dst, 0)
	dst = appendSegments(dst, p)
	dst[at] = byte((len(dst) - at - 1) / 2)
	return dst
}

func appendSegments(dst []byte, p *Path) []byte {
	for _, port := range p.Ports {
		dst = append(dst, byte(port[0]), byte(port[1]))
	}
	if k := p.Key; k != nil {
		dst = append(dst, 0x34, 4)
		dst = le.AppendUint16(dst, k.Vendor)
		dst = le.AppendUint16(dst, k.Type)
		dst = le.AppendUint16(dst, k.Product)
		major := k.Major
		if k.Compatible {
			major |= 0x80
		}
		dst = append(dst, major, k.Minor)
	}
	for _, n := range p.Names {
		dst = append(dst, 0x91, byte(len(n.Text)))
		dst = append(dst, n.Text...)
		if len(n.Text)%2 != 0 {
			dst = append(dst, 0)
		}
		for _, i := range n.Indexes {
			dst = appendLogical(dst, 0x28, i)
		}
	}
	if len(p.Names) == 0 {
		for _, part := range []struct {
			kind byte
			n    int
		}{{0x20, p.Class}, {0x24, p.Instance}, {0x30, p.Attribute}} {
			if part.n >= 0 {
				dst = appendLogical(dst, part.kind, uint32(part.n))
			}
		}
	}
	for _, n := range p.Points {
		dst = appendLogical(dst, 0x2C, uint32(n))
	}
	if p.HasData {
		data := p.Data
		dst = append(dst, 0x80, byte((len(data)+1)/2))
		dst = append(dst, data...)
		if len(data)%2 != 0 {
			dst = append(dst, 0)
		}
	}
	return dst
}

// appendLogical appends a logical segment in its shortest form.
func appendLogical(dst []byte, kind byte, n uint32) []byte {
	switch {
	case n < 1<<8:
		return append(dst, kind, byte(n))
	case n < 1<<16:
		return append(dst, kind|1, 0, byte(n), byte(n>>8))
	}
	return le.AppendUint32(append(dst, kind|2, 0), n)
}

// ParsePath reads a path behind its length in words; rest is what follows it.
func ParsePath(b []byte) (p Path, rest []byte, err error) {
	if len(b) == 0 || len(b) < 1+2*int(b[0]) {
		return p, nil, errors.New("the path is cut short")
	}
	n := 1 + 2*int(b[0])
	p, err = parseSegments(b[1:n])
	return p, b[n:], err
}

func parseSegments(b []byte) (p Path, err error) {
	p = Path{Class: -1, Instance: -1, Attribute: -1}
	short := func(what string) (Path, error) { return p, fmt.Errorf("%s in the path is cut short", what) }
	for len(b) > 0 {
		kind := b[0]
		switch {
		case kind == 0x00: // padding
			b = b[1:]
		case kind < 0x10: // a port with a link address of one octet
			if len(b) < 2 {
				return short("a port")
			}
			p.Ports = append(p.Ports, [2]int{int(kind & 0x0F), int(b[1])})
			b = b[2:]
		case kind < 0x20: // with one of several octets
			if len(b) < 2 {
				return short("a port")
			}
			n := 2 + int(b[1]) + int(b[1])%2
			if len(b) < n {
				return short("a port")
			}
			p.Ports = append(p.Ports, [2]int{int(kind & 0x0F), -1})
			b = b[n:]
		case kind == 0x34:
			if len(b) < 10 || b[1] != 4 {
				return short("the electronic key")
			}
			p.Key = &Key{le.Uint16(b[2:]), le.Uint16(b[4:]), le.Uint16(b[6:]), b[8] & 0x7F, b[9], b[8]&0x80 != 0}
			b = b[10:]
		case kind&0xE0 == 0x20:
			var n uint32
			if n, b, err = logical(b); err != nil {
				return p, err
			}
			switch kind & 0x1C {
			case 0x00:
				p.Class = int(n)
			case 0x04:
				p.Instance = int(n)
			case 0x08: // a member
				if len(p.Names) == 0 {
					return p, errors.New("an index in the path stands before any name")
				}
				last := &p.Names[len(p.Names)-1]
				last.Indexes = append(last.Indexes, n)
			case 0x0C:
				p.Points = append(p.Points, int(n))
			case 0x10:
				p.Attribute = int(n)
			default:
				return p, fmt.Errorf("a segment %02X in the path is of a kind that is not known", kind)
			}
		case kind&0xE0 == 0x40: // of the network: how often it may be sent
			n := 2
			if kind&0x10 != 0 && len(b) >= 2 {
				n = 2 + 2*int(b[1])
			}
			if len(b) < n {
				return short("a segment of the network")
			}
			b = b[n:]
		case kind == 0x80:
			if len(b) < 2 || len(b) < 2+2*int(b[1]) {
				return short("the data")
			}
			n := 2 + 2*int(b[1])
			p.Data, p.HasData = b[2:n:n], true
			b = b[n:]
		case kind == 0x91:
			if len(b) < 2 || len(b) < 2+int(b[1])+int(b[1])%2 {
				return short("a name")
			}
			n := int(b[1])
			if n == 0 {
				return p, errors.New("a name in the path is empty")
			}
			p.Names = append(p.Names, Name{Text: string(b[2 : 2+n])})
			b = b[2+n+n%2:]
		default:
			return p, fmt.Errorf("a segment %02X in the path is of a kind that is not known", kind)
		}
	}
	return p, nil
}

// logical reads a logical segment.
func logical(b []byte) (n uint32, rest []byte, err error) {
	switch width := b[0] & 3; {
	case width == 0 && len(b) >= 2:
		return uint32(b[1]), b[2:], nil
	case width == 1 && len(b) >= 4:
		return uint32(le.Uint16(b[2:])), b[4:], nil
	case width == 2 && len(b) >= 6:
		return le.Uint32(b[2:]), b[6:], nil
	case width == 3:
		return 0, b, fmt.Errorf("a segment %02X in the path is of a form that is not known", b[0])
	}
	return 0, b, errors.New("a segment of the path is cut short")
}

// String prints a path as people read it: a name with members and indexes, or class,
// instance and attribute.
func (p *Path) String() string {
	var s strings.Builder
	for i, n := range p.Names {
		if i > 0 {
			s.WriteByte('.')
		}
		s.WriteString(n.Text)
		if len(n.Indexes) > 0 {
			s.WriteByte('[')
			for k, at := range n.Indexes {
				if k > 0 {
					s.WriteByte(',')
				}
				s.WriteString(strconv.FormatUint(uint64(at), 10))
			}
			s.WriteByte(']')
		}
	}
	for _, part := range []struct {
		word string
		n    int
	}{{"class", p.Class}, {"instance", p.Instance}, {"attribute", p.Attribute}} {
		if part.n >= 0 && len(p.Names) == 0 {
			if s.Len() > 0 {
				s.WriteString(", ")
			}
			fmt.Fprintf(&s, "%s %d", part.word, part.n)
		}
	}
	return s.String()
}

// Request is a question of the message router: service, path, data.
type Request struct {
	Service byte
	Path    Path
	Data    []byte
}

// Append appends its octets.
func (r *Request) Append(dst []byte) []byte {
	dst = AppendPath(append(dst, r.Service), &r.Path)
	return append(dst, r.Data...)
}

// ParseRequest reads a question.
func ParseRequest(b []byte) (r Request, err error) {
	if len(b) < 2 {
		return r, errors.New("the question is cut short")
	}
	if b[0]&answers != 0 {
		return r, fmt.Errorf("%02X is no question", b[0])
	}
	r.Service = b[0]
	r.Path, r.Data, err = ParsePath(b[1:])
	return r, err
}

// Answer is what a device says to a question.
type Answer struct {
	Service byte // of the question
	// Status is the general status, Extended what it is said with more exactly.
	Status   byte
	Extended []uint16
	Data     []byte
}

// Append appends its octets.
func (a *Answer) Append(dst []byte) []byte {
	dst = append(dst, a.Service|answers, 0, a.Status, byte(len(a.Extended)))
	for _, e := range a.Extended {
		dst = le.AppendUint16(dst, e)
	}
	return append(dst, a.Data...)
}

// ParseAnswer reads an answer.
func ParseAnswer(b []byte) (a Answer, err error) {
	if len(b) < 4 {
		return a, errors.New("the answer is cut short")
	}
	if b[0]&answers == 0 {
		return a, fmt.Errorf("%02X is no answer", b[0])
	}
	a.Service, a.Status = b[0]&^answers, b[2]
	n := 4 + 2*int(b[3])
	if len(b) < n {
		return a, errors.New("the extended status is cut short")
	}
	for at := 4; at < n; at += 2 {
		a.Extended = append(a.Extended, le.Uint16(b[at:]))
	}
	a.Data = b[n:]
	return a, nil
}

// AppendMultiple appends the data of several questions, or answers, in one message
// (service 0A; volume 1, appendix ): their count, where each begins, and each.
func AppendMultiple(dst []byte, messages ...[]byte) []byte {
	dst = le.AppendUint16(dst, uint16(len(messages)))
	at := 2 + 2*len(messages)
	for _, m := range messages {
		dst = le.AppendUint16(dst, uint16(at))
		at += len(m)
	}
	for _, m := range messages {
		dst = append(dst, m...)
	}
	return dst
}

// ParseMultiple reads several messages in one.
func ParseMultiple(b []byte) (messages [][]byte, err error) {
	if len(b) < 2 {
		return nil, errors.New("the count of the messages is missing")
	}
	n := int(le.Uint16(b))
	if len(b) < 2+2*n {
		return nil, fmt.Errorf("%d messages, and where they begin is cut short", n)
	}
	for i := range n {
		from, to := int(le.Uint16(b[2+2*i:])), len(b)
		if i+1 < n {
			to = int(le.Uint16(b[2+2*(i+1):]))
		}
		if from < 2+2*n || from > to || to > len(b) {
			return nil, fmt.Errorf("message %d of %d does not lie in it", i+1, n)
		}
		messages = append(messages, b[from:to])
	}
	return messages, nil
}

// Through wraps a message so that it goes on to another module (service 52 of the
// connection manager; volume 1, clause 3-5.5.4), within 2 s.
func Through(ports [][2]int, message []byte) []byte {
	data := []byte{7, 16} // 16 ticks of 128 ms
	data = le.AppendUint16(data, uint16(len(message)))
	data = append(data, message...)
	if len(message)%2 != 0 {
		data = append(data, 0)
	}
	data = append(data, byte(len(ports)), 0)
	for _, p := range ports {
		data = append(data, byte(p[0]), byte(p[1]))
	}
	r := Request{Service: ReadPart, Path: PathTo(ClassConnection, 1, -1), Data: data}
	return r.Append(nil)
}
