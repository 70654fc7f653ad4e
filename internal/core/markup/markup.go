// Package markup reads XML files that describe devices: element by element, within bounds, without
// entities of their own.
package markup

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"
)

// Bounds of a file.
const (
	MostDepth    = 60
	MostElements = 4_000_000
)

// Element is where a reader stands.
type Element struct {
	// Name is that of the element, without its namespace; Path are those around it, the outermost
	// first, and its own.
	Name string
	Path []string
	Line int // from 1
	attr []xml.Attr
}

// Attr is an attribute by its name, without its namespace; empty for none.
func (e *Element) Attr(name string) string {
	for i := range e.attr {
		if e.attr[i].Name.Local == name {
			return e.attr[i].Value
		}
	}
	return ""
}

// Within reports whether an element lies in one of a name.
func (e *Element) Within(name string) bool {
	for _, n := range e.Path[:len(e.Path)-1] {
		if n == name {
			return true
		}
	}
	return false
}

// Read goes through a file: begin is told of each element as it begins, end as it ends with the text
// in it. Either may end the reading by an error, to which the line is put. A file that declares a
// document type is refused, for with it come entities.
func Read(data []byte, begin func(*Element) error, end func(e *Element, text string) error) error {
	d := xml.NewDecoder(bytes.NewReader(data))
	d.Strict, d.Entity, d.CharsetReader = true, nil, charset
	r := &reader{begin: begin, end: end}
	for {
		token, err := d.RawToken()
		line, _ := d.InputPos()
		switch {
		case errors.Is(err, io.EOF) && len(r.open) == 0 && r.elements > 0:
			return nil
		case errors.Is(err, io.EOF):
			return fmt.Errorf("line %d: the file ends before its elements do", line)
		case err == nil:
			err = r.take(token, line)
		}
		if err != nil {
			var syntax *xml.SyntaxError
			if errors.As(err, &syntax) {
				return fmt.Errorf("line %d: it is no XML: %s", syntax.Line, syntax.Msg)
			}
			return fmt.Errorf("line %d: %w", line, err)
		}
	}
}

type reader struct {
	begin    func(*Element) error
	end      func(*Element, string) error
	open     []Element
	texts    [][]byte
	path     []string
	elements int
}

// mostText bounds the text of an element.
const mostText = 1 << 20

func (r *reader) take(token xml.Token, line int) error {
	switch t := token.(type) {
	case xml.Directive:
		return errors.New("it declares a document type or entities, which such a file has not")
	case xml.StartElement:
		if r.elements++; r.elements > MostElements {
			return fmt.Errorf("it has more than %d elements", MostElements)
		}
		if len(r.open) >= MostDepth {
			return fmt.Errorf("its elements lie more than %d deep in each other", MostDepth)
		}
		r.path = append(r.path, t.Name.Local)
		e := Element{Name: t.Name.Local, Path: r.path[:len(r.path):len(r.path)], Line: line, attr: t.Attr}
		r.open, r.texts = append(r.open, e), append(r.texts, nil)
		if r.begin != nil {
			return r.begin(&r.open[len(r.open)-1])
		}
	case xml.EndElement:
		n := len(r.open) - 1
		if n < 0 || r.open[n].Name != t.Name.Local {
			return fmt.Errorf("an element %s ends that did not begin", t.Name.Local)
		}
		e, text := r.open[n], string(r.texts[n])
		r.open, r.texts, r.path = r.open[:n], r.texts[:n], r.path[:n]
		if r.end != nil {
			e.Path = append(r.path[:n:n], e.Name)
			return r.end(&e, strings.TrimSpace(text))
		}
	case xml.CharData:
		if n := len(r.open) - 1; n >= 0 && len(r.texts[n])+len(t) <= mostText {
			r.texts[n] = append(r.texts[n], t...)
		}
	}
	return nil
}

// charset reads the character sets that such files have besides UTF-8: one octet to a character.
func charset(label string, in io.Reader) (io.Reader, error) {
	switch strings.ToLower(label) {
	case "iso-8859-1", "latin1", "iso-8859-15", "windows-1252", "us-ascii", "ascii":
		return &octets{in: in}, nil
	}
	return nil, fmt.Errorf("its characters are in %s, which is not read: save it as UTF-8", label)
}

// octets makes UTF-8 of characters of one octet.
type octets struct {
	in   io.Reader
	rest []byte
}

func (o *octets) Read(b []byte) (int, error) {
	if len(o.rest) == 0 {
		buf := make([]byte, 4096)
		n, err := o.in.Read(buf)
		if n == 0 {
			return 0, err
		}
		for _, c := range buf[:n] {
			o.rest = utf8.AppendRune(o.rest, rune(c))
		}
	}
	n := copy(b, o.rest)
	o.rest = o.rest[n:]
	return n, nil
}
