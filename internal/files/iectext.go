package files

import (
	"fmt"
	"strconv"
	"strings"

	"ferry/internal/core/problem"
	"ferry/internal/core/regmap"
)

// The textual form of IEC 61131-3: data types (clause 6.4) and global variables
// with their direct addresses (clause 6.5). What else a program holds is passed
// over. What cannot be read is told with its place, and the rest is taken.

// declared reports whether a text is declarations rather than a table: by the
// words with which it begins.
func declared(data []byte) bool {
	l := lexer{text: string(data[:min(len(data), 1<<16)]), line: 1}
	first := l.next()
	for _, word := range []string{"PROGRAM", "CONFIGURATION", "FUNCTION_BLOCK", "FUNCTION", "NAMESPACE"} {
		if first.is(word) {
			upper := strings.ToUpper(l.text)
			return l.next().kind == 'w' && (strings.Contains(upper, "VAR") || strings.Contains(upper, "TYPE"))
		}
	}
	second := l.next()
	switch {
	case first.is("TYPE"):
		return second.kind == 'w' && l.next().is(":")
	case first.is("VAR_GLOBAL"), first.is("VAR"):
		third := l.next()
		return second.kind == 'w' && (third.is(":") || third.is("AT") || third.is(",") || third.kind == 'w')
	}
	return false
}

// Bounds of declarations.
const (
	mostDeclared     = 8 << 20 // octets
	mostDeclarations = 200_000
	mostNested       = 60
	mostFaults       = 200
)

// declarations is a parser of them.
type declarations struct {
	lexer
	ahead  token
	doc    iecDocument
	faults []regmap.Rejected
	// constants bound arrays.
	constants map[string]int
	count     int
}

// readDeclared reads declarations into the same document that the XML form
// gives.
func readDeclared(data []byte) (*iecDocument, []regmap.Rejected, error) {
	if len(data) > mostDeclared {
		return nil, nil, problem.New("too-large",
			fmt.Sprintf("The declarations are larger than %d MB.", mostDeclared>>20), "Export them by parts.")
	}
	// The constants are read first: they may stand behind what they bound.
	first := newDeclarations(data, map[string]int{})
	first.read()
	d := newDeclarations(data, first.constants)
	d.read()
	if d.count >= mostDeclarations {
		return nil, nil, problem.New("too-large", fmt.Sprintf("There are more than %d declarations.", mostDeclarations),
			"Export them by parts.")
	}
	d.resolve()
	return &d.doc, d.faults, nil
}

func newDeclarations(data []byte, constants map[string]int) *declarations {
	d := &declarations{lexer: lexer{text: strings.ToValidUTF8(string(data), "?"), line: 1}, constants: constants}
	d.take()
	return d
}

func (d *declarations) read() {
	for d.ahead.kind != 0 && d.count < mostDeclarations {
		switch {
		case d.ahead.is("TYPE"):
			d.take()
			d.types()
		case d.ahead.is("VAR_GLOBAL"), d.ahead.is("VAR"):
			global := d.ahead.is("VAR_GLOBAL")
			d.take()
			d.variables(global)
		default:
			d.take()
		}
	}
}

// take moves to the next token and returns the one before.
func (d *declarations) take() token {
	t := d.ahead
	d.ahead = d.next()
	return t
}

func (d *declarations) fault(t token, format string, args ...any) {
	if len(d.faults) < mostFaults {
		d.faults = append(d.faults, regmap.Rejected{Line: t.line, Column: fmt.Sprintf("column %d", t.col), Cell: t.text,
			Reason: fmt.Sprintf(format, args...)})
	}
}

// expect takes a sign or keyword, or says that it is missing.
func (d *declarations) expect(word, where string) bool {
	if d.ahead.is(word) {
		d.take()
		return true
	}
	if d.ahead.kind == 0 {
		d.fault(d.ahead, "the text ends where %q of %s is expected", word, where)
	} else {
		d.fault(d.ahead, "%q stands where %q of %s is expected", d.ahead.text, word, where)
	}
	return false
}

// recover passes over what is left of a declaration that could not be read.
func (d *declarations) recover(ends ...string) {
	for d.ahead.kind != 0 {
		if d.ahead.is(";") {
			d.take()
			return
		}
		for _, end := range append(ends, "END_TYPE", "END_VAR", "END_STRUCT", "TYPE", "VAR_GLOBAL") {
			if d.ahead.is(end) {
				return
			}
		}
		d.take()
	}
}

// remarkOf is the comment that stands on the line of a declaration, behind it
// or before.
func (d *declarations) remarkOf(line int) string {
	if d.remarkLine == line {
		return d.remark
	}
	return ""
}

func (d *declarations) types() {
	opened := d.ahead
	for {
		switch {
		case d.ahead.kind == 0:
			d.fault(opened, "END_TYPE is missing")
			return
		case d.ahead.is("END_TYPE"):
			d.take()
			return
		case d.ahead.is("VAR_GLOBAL"), d.ahead.is("TYPE"):
			d.fault(d.ahead, "END_TYPE is missing before %s", d.ahead.text)
			return
		case d.ahead.kind != 'w':
			d.fault(d.ahead, "%q stands where the name of a type is expected", d.ahead.text)
			d.recover()
			if d.ahead.is("END_STRUCT") {
				d.take()
			}
			continue
		}
		name := d.take()
		d.count++
		if !d.expect(":", "type "+name.text) {
			d.recover()
			continue
		}
		if d.ahead.is("STRUCT") {
			d.take()
			d.structure(name, name.text, 0)
		} else if d.ahead.is("(") {
			d.enumeration(name)
		} else if v, ok := d.spec(name, name.text, 0); ok {
			d.doc.types = append(d.doc.types,
				iecTypeDecl{Name: name.text, line: name.line, Spec: iecUserDefined{Kind: "Alias", BaseType: &v}})
		} else {
			d.recover()
			continue
		}
		d.initial()
		if d.ahead.is(";") {
			d.take()
		}
	}
}

// structure reads members up to END_STRUCT.
func (d *declarations) structure(opened token, name string, depth int) {
	at := len(d.doc.types)
	d.doc.types = append(d.doc.types,
		iecTypeDecl{Name: name, line: opened.line, Spec: iecUserDefined{Kind: "StructTypeSpec"}})
	var members []iecVariable
	defer func() { d.doc.types[at].Spec.Members = members }()
	for {
		switch {
		case d.ahead.kind == 0:
			d.fault(opened, "END_STRUCT of %s is missing", name)
			members = append(members, unreadable(opened.line))
			return
		case d.ahead.is("END_STRUCT"):
			d.take()
			return
		case d.ahead.is("END_TYPE"), d.ahead.is("END_VAR"), d.ahead.is("VAR_GLOBAL"):
			d.fault(d.ahead, "END_STRUCT of %s is missing before %s", name, d.ahead.text)
			members = append(members, unreadable(opened.line))
			return
		}
		list := d.declaration(name, depth)
		if list == nil {
			list = []iecVariable{unreadable(d.ahead.line)}
		}
		members = append(members, list...)
	}
}

// unread is the name of what could not be read.
const unread = "what could not be read"

// unreadable stands in the place of what could not be read: whatever lies behind
// it has no place that is known.
func unreadable(line int) iecVariable {
	return iecVariable{Name: unread, line: line}
}

func (d *declarations) enumeration(name token) {
	d.take()
	decl := iecTypeDecl{Name: name.text, line: name.line, Spec: iecUserDefined{Kind: "EnumTypeSpec"}}
	next := 0
	for d.ahead.kind == 'w' {
		e := iecEnumerator{Name: d.take().text}
		if d.ahead.is(":=") {
			d.take()
			if n, ok := d.number(); ok {
				next = n
			}
		}
		e.Value.Simple.Value = strconv.Itoa(next)
		decl.Spec.Enumerators = append(decl.Spec.Enumerators, e)
		if next++; !d.ahead.is(",") {
			break
		}
		d.take()
	}
	if !d.expect(")", "enumeration "+name.text) {
		d.recover()
		return
	}
	if d.ahead.kind == 'w' && !d.ahead.is("END_TYPE") {
		base := iecType{TypeName: d.take().text}
		decl.Spec.BaseType = &base
	}
	d.doc.types = append(d.doc.types, decl)
}

// variables reads declarations up to END_VAR. Of those that are not global, the
// ones with an address are kept.
func (d *declarations) variables(global bool) {
	opened, constant := d.ahead, false
	for d.ahead.is("RETAIN") || d.ahead.is("NON_RETAIN") || d.ahead.is("CONSTANT") || d.ahead.is("PERSISTENT") {
		constant = d.take().is("CONSTANT") || constant
	}
	for {
		switch {
		case d.ahead.kind == 0:
			d.fault(opened, "END_VAR is missing")
			return
		case d.ahead.is("END_VAR"):
			d.take()
			return
		case d.ahead.is("TYPE"), d.ahead.is("VAR_GLOBAL"):
			d.fault(d.ahead, "END_VAR is missing before %s", d.ahead.text)
			return
		case d.ahead.is("END_STRUCT"), d.ahead.is("END_TYPE"):
			d.fault(d.ahead, "%s stands in a list of variables", d.ahead.text)
			d.take()
			continue
		}
		list := d.declaration("", 0)
		if list == nil && global && !constant {
			list = []iecVariable{unreadable(d.ahead.line)}
		}
		for _, v := range list {
			if constant {
				if v.initial != nil {
					d.constants[strings.ToUpper(v.Name)] = *v.initial
				}
			} else if global || v.Address != nil {
				d.doc.variables = append(d.doc.variables, v)
			}
		}
	}
}

// declaration reads one: names, perhaps an address, a type and a start value.
func (d *declarations) declaration(within string, depth int) (list []iecVariable) {
	d.count++
	if d.count > mostDeclarations {
		d.at = len(d.text)
		d.ahead = token{}
		return nil
	}
	var names []token
	for {
		if d.ahead.kind != 'w' {
			d.fault(d.ahead, "%q stands where a name is expected", d.ahead.text)
			if d.ahead.kind != 0 {
				d.take()
			}
			d.recover()
			return nil
		}
		names = append(names, d.take())
		if !d.ahead.is(",") {
			break
		}
		d.take()
	}
	v := iecVariable{line: names[0].line}
	if d.ahead.is("AT") {
		d.take()
		if d.ahead.kind != 'p' {
			d.fault(d.ahead, "%q stands where an address, such as %%DB7.DBX0.0, is expected", d.ahead.text)
			d.recover()
			return nil
		}
		v.Address = &iecAddress{Address: d.take().text}
	}
	if !d.expect(":", names[0].text) {
		d.recover()
		return nil
	}
	full := names[0].text
	if within != "" {
		full = within + "." + full
	}
	typ, ok := d.spec(names[0], full, depth+1)
	if !ok {
		d.recover()
		return nil
	}
	v.Type, v.initial = typ, d.initial()
	end := d.ahead
	d.expect(";", names[0].text)
	if text := d.remarkOf(end.line); text != "" {
		v.Documentation = &iecText{Text: text}
	}
	for _, name := range names {
		v.Name, v.line = name.text, name.line
		list = append(list, v)
	}
	return list
}
