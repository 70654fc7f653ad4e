package iec61850

import (
	"errors"
	"fmt"
	"strings"
)

// Message is one of MMS, taken apart (ISO 9506-2, MMSpdu).
type Message struct {
	Kind   Kind
	Invoke uint32 // of a question and of what answers it
	// Service is what is asked for or answered; Body its content.
	Service Service
	Body    []byte
	// Class and Code are those of an error.
	Class, Code int
	// From is where Body begins among the octets of the message.
	From int
}

// Kind is what a message is.
type Kind byte

// The kinds, by their tags.
const (
	Request           Kind = 0xA0
	Response          Kind = 0xA1
	Error             Kind = 0xA2
	Unconfirmed       Kind = 0xA3
	Reject            Kind = 0xA4
	InitiateRequest   Kind = 0xA8
	InitiateResponse  Kind = 0xA9
	InitiateError     Kind = 0xAA
	ConcludeRequest   Kind = 0x8B
	ConcludeResponse  Kind = 0x8C
	ConcludeError     Kind = 0x8D
	informationReport      = 0xA0
	identifierTag          = 0x1A
	invokeTag              = 0x02
	sequenceTag            = 0x30
	mostNames              = 100_000
	mostIdentifier         = 255
)

// Service is one that is asked for.
type Service uint32

// The services in use, by their numbers.
const (
	GetNameList     Service = 1
	Identify        Service = 2
	Read            Service = 4
	Write           Service = 5
	GetTypeOf       Service = 6  // getVariableAccessAttributes
	GetMembersOf    Service = 12 // getNamedVariableListAttributes
	Report          Service = 1000
	serviceMask             = 0x1F
	identifyTag             = 0x82
	mostOutstanding         = 10
)

// tag is that of a service: Identify has no parts.
func (s Service) tag(response bool) byte {
	if s == Identify && !response {
		return identifyTag
	}
	return context | constructed | byte(s)
}

// ParseMessage takes a message apart.
func ParseMessage(b []byte) (m Message, err error) {
	e, rest, err := next(b)
	switch {
	case err != nil:
		return m, err
	case len(rest) > 0:
		return m, fmt.Errorf("%d octets behind the message", len(rest))
	}
	m.Kind, m.From = Kind(e.tag), e.head
	c := e.content
	switch m.Kind {
	case Request, Response, Error:
		var of element
		if m.Kind == Error { // its number has a tag of its own
			err = each(c, func(of element) error {
				switch of.tag {
				case 0x80:
					v, err := uintOf(of.content)
					m.Invoke = uint32(v)
					return err
				case 0xA2:
					m.Class, m.Code, err = serviceError(of.content)
					return err
				}
				return nil
			})
			return m, err
		}
		if of, rest, err = next(c); err != nil {
			return m, err
		}
		v, err := uintOf(of.content)
		if of.tag != invokeTag || err != nil {
			return m, errors.New("the message has no number")
		}
		m.Invoke = uint32(v)
		for len(rest) > 0 { // modifiers may stand before the service
			if of, c, err = next(rest); err != nil {
				return m, err
			}
			if of.tag != sequenceTag {
				break
			}
			rest = c
		}
		if len(rest) == 0 {
			return m, errors.New("the message names no service")
		}
		m.Service, m.Body = Service(of.tag&serviceMask), of.content
		m.From = len(b) - len(rest) + of.head
	case Unconfirmed:
		of, _, err := next(c)
		if err != nil {
			return m, err
		}
		if of.tag != informationReport {
			return m, fmt.Errorf("an unconfirmed service of tag %02X, which is no report", of.tag)
		}
		m.Service, m.Body, m.From = Report, of.content, e.head+of.head
	case Reject, InitiateRequest, InitiateResponse, InitiateError, ConcludeRequest, ConcludeResponse, ConcludeError:
		m.Body = c
		if m.Kind == Reject {
			if number, err := find(c, 0x80); err == nil {
				v, _ := uintOf(number) // a rejection may name none
				m.Invoke = uint32(v)
			}
		}
	default:
		return m, fmt.Errorf("a message of tag %02X, which is none of MMS", e.tag)
	}
	return m, nil
}

// serviceError is the class and the code of an error: its class is a tag, the code what is in it.
func serviceError(b []byte) (class, code int, err error) {
	inner, err := find(b, 0xA0)
	if err != nil {
		return 0, 0, err
	}
	e, _, err := next(inner)
	if err != nil {
		return 0, 0, err
	}
	v, err := intOf(e.content)
	return int(e.tag & serviceMask), int(v), err
}

// Question is a message that asks for a service.
func Question(invoke uint32, s Service, body []byte) []byte {
	return wrap(byte(Request), natural(invokeTag, uint64(invoke)), wrap(s.tag(false), body))
}

// Answer is one that answers it.
func Answer(invoke uint32, s Service, body []byte) []byte {
	return wrap(byte(Response), natural(invokeTag, uint64(invoke)), wrap(s.tag(true), body))
}

// Refusal is one that refuses it, by a class and a code of errors.
func Refusal(invoke uint32, class, code int) []byte {
	return wrap(byte(Error), natural(0x80, uint64(invoke)),
		wrap(0xA2, wrap(0xA0, whole(context|byte(class), int64(code)))))
}

// Rejection is one that cannot make anything of a message.
func Rejection(invoke uint32) []byte {
	return wrap(byte(Reject), natural(0x80, uint64(invoke)), whole(0x81, 1))
}

// Conclusion asks for the end, or takes it.
func Conclusion(kind Kind) []byte { return []byte{byte(kind), 0} }

// Name is a name of an object: in a domain, or of the whole device where that is empty.
type Name struct{ Domain, Item string }

// String is a name in words.
func (n Name) String() string {
	if n.Domain == "" {
		return n.Item
	}
	return n.Domain + "/" + n.Item
}

// append is the name as ObjectName.
func (n Name) octets() []byte {
	if n.Domain == "" {
		return wrap(0x80, []byte(n.Item))
	}
	return wrap(0xA1, wrap(identifierTag, []byte(n.Domain)), wrap(identifierTag, []byte(n.Item)))
}

// readName reads an ObjectName.
func readName(b []byte) (n Name, err error) {
	e, _, err := next(b)
	if err != nil {
		return n, err
	}
	switch e.tag {
	case 0x80, 0x82:
		n.Item = string(e.content)
	case 0xA1:
		var parts []string
		if err := each(e.content, func(of element) error {
			parts = append(parts, string(of.content))
			return nil
		}); err != nil {
			return n, err
		}
		if len(parts) != 2 {
			return n, errors.New("a name in a domain has not two parts")
		}
		n.Domain, n.Item = parts[0], parts[1]
	default:
		return n, fmt.Errorf("a name of tag %02X", e.tag)
	}
	if len(n.Domain) > mostIdentifier || len(n.Item) > mostIdentifier {
		return n, fmt.Errorf("a name of %d octets", max(len(n.Domain), len(n.Item)))
	}
	return n, nil
}

// Classes of objects that are listed.
const (
	Variables = 0
	Lists     = 2
	Domains   = 9
)

// NameList is a question for names: of a class of objects in a domain, or of the whole device where
// that is empty, behind a name.
type NameList struct {
	Class         int
	Domain, After string
}

// Octets are those of the question.
func (q *NameList) Octets() []byte {
	scope := wrap(0x80)
	if q.Domain != "" {
		scope = wrap(0x81, []byte(q.Domain))
	}
	b := append(wrap(0xA0, whole(0x80, int64(q.Class))), wrap(0xA1, scope)...)
	if q.After != "" {
		b = append(b, wrap(0x82, []byte(q.After))...)
	}
	return b
}

// ReadNameList reads the question.
func ReadNameList(b []byte) (q NameList, err error) {
	err = each(b, func(e element) error {
		switch e.tag {
		case 0xA0:
			class, err := find(e.content, 0x80)
			if err != nil {
				return err
			}
			v, err := intOf(class)
			q.Class = int(v)
			return err
		case 0xA1:
			of, _, err := next(e.content)
			if err == nil && of.tag == 0x81 {
				q.Domain = string(of.content)
			}
			return err
		case 0x82:
			q.After = string(e.content)
		}
		return nil
	})
	return q, err
}

// Names are those that answer it, and whether more follow.
func Names(list []string, more bool) []byte {
	var names []byte
	for _, name := range list {
		names = append(names, wrap(identifierTag, []byte(name))...)
	}
	follows := byte(0)
	if more {
		follows = 0xFF
	}
	return append(wrap(0xA0, names), 0x81, 1, follows)
}

// ReadNames reads them.
func ReadNames(b []byte) (list []string, more bool, err error) {
	more = true
	err = each(b, func(e element) error {
		switch e.tag {
		case 0xA0:
			return each(e.content, func(name element) error {
				if list = append(list, string(name.content)); len(list) > mostNames || len(name.content) > mostIdentifier {
					return fmt.Errorf("a list of %d names, or a name of %d octets", len(list), len(name.content))
				}
				return nil
			})
		case 0x81:
			more = len(e.content) > 0 && e.content[0] != 0
		}
		return nil
	})
	return list, more, err
}

// listed are variables by their names.
func listed(names []Name) []byte {
	var b []byte
	for _, n := range names {
		b = append(b, wrap(sequenceTag, wrap(0xA0, n.octets()))...)
	}
	return b
}

// readListed reads them.
func readListed(b []byte) (names []Name, err error) {
	err = each(b, func(e element) error {
		name, err := way(e.content, 0xA0)
		if err != nil {
			return err
		}
		n, err := readName(name)
		if names = append(names, n); len(names) > mostNames {
			return fmt.Errorf("more than %d variables", mostNames)
		}
		return err
	})
	return names, err
}

// ReadOf is the question for the values of variables.
func ReadOf(names []Name) []byte { return wrap(0xA1, wrap(0xA0, listed(names))) }

// ReadRead reads it. list is set where a list of variables is asked for by its name.
func ReadRead(b []byte) (names []Name, list bool, err error) {
	spec, err := find(b, 0xA1)
	if err != nil {
		return nil, false, err
	}
	e, _, err := next(spec)
	switch {
	case err != nil:
		return nil, false, err
	case e.tag == 0xA1:
		n, err := readName(e.content)
		return []Name{n}, true, err
	case e.tag != 0xA0:
		return nil, false, fmt.Errorf("variables of tag %02X", e.tag)
	}
	names, err = readListed(e.content)
	return names, false, err
}

// Result is a value, or why there is none: a data access error, -1 for none.
type Result struct {
	Data    Data
	Refused int
}

// results are those of a read.
func results(list []Result) (b []byte) {
	for i := range list {
		if r := &list[i]; r.Refused >= 0 {
			b = append(b, whole(0x80, int64(r.Refused))...)
		} else {
			b = r.Data.Append(b)
		}
	}
	return b
}

// ReadAnswer is the answer to a read.
func ReadAnswer(list []Result) []byte { return wrap(0xA1, results(list)) }

// ReadResults reads the answer to a read; from is where b begins among all octets.
func ReadResults(b []byte, from int) (list []Result, err error) {
	for at := from; len(b) > 0; {
		e, rest, err := next(b)
		if err != nil {
			return nil, err
		}
		if e.tag == 0xA1 {
			return accessResults(e.content, at+e.head)
		}
		at += len(b) - len(rest)
		b = rest
	}
	return nil, errors.New("the answer has no results")
}

func accessResults(b []byte, from int) (list []Result, err error) {
	for len(b) > 0 {
		if len(list) >= mostParts {
			return nil, fmt.Errorf("more than %d results", mostParts)
		}
		e, rest, err := next(b)
		if err != nil {
			return nil, err
		}
		r := Result{Refused: -1}
		if e.tag == 0x80 {
			v, err := intOf(e.content)
			if err != nil {
				return nil, err
			}
			r.Refused = int(v) & 0xFF
		} else if r.Data, rest, err = ReadData(b, from); err != nil {
			return nil, err
		}
		from += len(b) - len(rest)
		list, b = append(list, r), rest
	}
	return list, nil
}

// WriteOf is the question that writes values to variables.
func WriteOf(names []Name, values []Data) []byte {
	var data []byte
	for i := range values {
		data = values[i].Append(data)
	}
	return append(wrap(0xA0, listed(names)), wrap(0xA0, data)...)
}

// ReadWrite reads it.
func ReadWrite(b []byte) (names []Name, values []Data, err error) {
	e, rest, err := next(b)
	if err != nil || e.tag != 0xA0 {
		return nil, nil, errors.New("what is to be written names no variables")
	}
	if names, err = readListed(e.content); err != nil {
		return nil, nil, err
	}
	data, err := find(rest, 0xA0)
	if err != nil {
		return nil, nil, err
	}
	for len(data) > 0 {
		d, behind, err := ReadData(data, 0)
		if err != nil {
			return nil, nil, err
		}
		values, data = append(values, d), behind
	}
	if len(values) != len(names) {
		return nil, nil, fmt.Errorf("%d values for %d variables", len(values), len(names))
	}
	return names, values, nil
}

// WriteAnswer is the answer to a write: of each a data access error, -1 for taken.
func WriteAnswer(list []int) (b []byte) {
	for _, refused := range list {
		if refused >= 0 {
			b = append(b, whole(0x80, int64(refused))...)
		} else {
			b = append(b, 0x81, 0)
		}
	}
	return b
}

// ReadWritten reads it.
func ReadWritten(b []byte) (list []int, err error) {
	err = each(b, func(e element) error {
		refused := -1
		if e.tag == 0x80 {
			v, err := intOf(e.content)
			if err != nil {
				return err
			}
			refused = int(v) & 0xFF
		}
		list = append(list, refused)
		return nil
	})
	return list, err
}

// TypeOf is the question for the type of a variable; MembersOf that for the members of a list.
func TypeOf(n Name) []byte { return wrap(0xA0, n.octets()) }

// ReadTypeOf reads it.
func ReadTypeOf(b []byte) (Name, error) {
	name, err := find(b, 0xA0)
	if err != nil {
		return Name{}, err
	}
	return readName(name)
}

// MembersOf is as TypeOf.
func MembersOf(n Name) []byte { return n.octets() }

// ReadMembersOf reads it.
func ReadMembersOf(b []byte) (Name, error) { return readName(b) }

// Members is the answer to it.
func Members(names []Name) []byte { return append([]byte{0x80, 1, 0}, wrap(0xA1, listed(names))...) }

// ReadMembers reads it.
func ReadMembers(b []byte) ([]Name, error) {
	list, err := find(b, 0xA1)
	if err != nil {
		return nil, err
	}
	return readListed(list)
}

// Identity is who a device is.
type Identity struct{ Vendor, Model, Revision string }

// Octets are those of the answer.
func (i *Identity) Octets() []byte {
	b := append(wrap(0x80, []byte(i.Vendor)), wrap(0x81, []byte(i.Model))...)
	return append(b, wrap(0x82, []byte(i.Revision))...)
}

// ReadIdentity reads them.
func ReadIdentity(b []byte) (i Identity, err error) {
	err = each(b, func(e element) error {
		text := strings.ToValidUTF8(string(e.content), "\uFFFD")
		switch e.tag {
		case 0x80:
			i.Vendor = text
		case 0x81:
			i.Model = text
		case 0x82:
			i.Revision = text
		}
		return nil
	})
	return i, err
}

// ReportOf is a report of a list with a name, or of variables by theirs where there is more than one
// or it lies in a domain.
func ReportOf(names []Name, values []Result) []byte {
	spec := wrap(0xA0, listed(names))
	if len(names) == 1 && names[0].Domain == "" {
		spec = wrap(0xA1, names[0].octets())
	}
	return wrap(byte(Unconfirmed), wrap(informationReport, spec, wrap(0xA0, results(values))))
}

// ReadReport reads one; from is where b begins among all octets.
func ReadReport(b []byte, from int) (names []Name, values []Result, err error) {
	e, rest, err := next(b)
	if err != nil {
		return nil, nil, err
	}
	if e.tag == 0xA1 {
		n, err := readName(e.content)
		if err != nil {
			return nil, nil, err
		}
		names = []Name{n}
	} else if names, err = readListed(e.content); err != nil {
		return nil, nil, err
	}
	of, _, err := next(rest)
	if err != nil || of.tag != 0xA0 {
		return nil, nil, errors.New("the report has no values")
	}
	values, err = accessResults(of.content, from+len(b)-len(rest)+of.head)
	return names, values, err
}
