package files

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

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

// token is a word, a number, a text or a sign of the source.
type token struct {
	kind byte // w a word, n a number, t a text, p an address, s a sign; 0 at the end
	text string
	line int
	col  int
}

// is reports whether the token is a keyword or a sign.
func (t token) is(word string) bool {
	return (t.kind == 'w' || t.kind == 's') && strings.EqualFold(t.text, word)
}

// lexer takes a source apart.
type lexer struct {
	text string
	at   int
	line int
	from int // where the line begins
	// remark is the comment read last, of remarkLine.
	remark     string
	remarkLine int
}

func (l *lexer) advance(n int) {
	for _, r := range l.text[l.at : l.at+n] {
		if r == '\n' {
			l.line++
			l.from = l.at
		}
	}
	if i := strings.LastIndexByte(l.text[l.at:l.at+n], '\n'); i >= 0 {
		l.from = l.at + i + 1
	}
	l.at += n
}

// comments are what begins one, and what ends it; the last ends with its line.
var comments = [][2]string{{"(*", "*)"}, {"/*", "*/"}, {"{", "}"}, {"//", "\n"}}

// skip passes over blanks and comments.
func (l *lexer) skip() {
	for l.at < len(l.text) {
		rest := l.text[l.at:]
		r, size := utf8.DecodeRuneInString(rest)
		if unicode.IsSpace(r) || r == '\uFEFF' {
			l.advance(size)
			continue
		}
		found := false
		for _, c := range comments {
			if !strings.HasPrefix(rest, c[0]) {
				continue
			}
			found = true
			body := rest[len(c[0]):]
			n := strings.Index(body, c[1])
			if n < 0 {
				n = len(body)
			}
			line := l.line
			if c[0] != "{" {
				l.remark, l.remarkLine = strings.Join(strings.Fields(strings.Trim(body[:n], "* \t\r\n/")), " "), line
			}
			end := len(c[0]) + n
			if c[1] != "\n" {
				end += len(c[1])
			}
			l.advance(min(end, len(rest)))
			break
		}
		if !found {
			return
		}
	}
}

func isWord(r rune) bool { return r == '_' || unicode.IsLetter(r) || unicode.IsDigit(r) }

func (l *lexer) next() token {
	l.skip()
	t := token{line: l.line, col: l.at - l.from + 1}
	if l.at >= len(l.text) {
		return t
	}
	rest := l.text[l.at:]
	take := func(kind byte, n int) token {
		t.kind, t.text = kind, rest[:n]
		l.advance(n)
		return t
	}
	first, size := utf8.DecodeRuneInString(rest)
	switch {
	case first == '%':
		n := 1
		for n < len(rest) && (isWord(rune(rest[n])) || rest[n] == '.' || rest[n] == '*') {
			n++
		}
		return take('p', n)
	case first == '"' || first == '\'':
		n := strings.IndexRune(rest[1:], first)
		if n < 0 || strings.IndexByte(rest[1:1+n], '\n') >= 0 {
			return take('s', 1)
		}
		t = take('t', n+2)
		if t.text = t.text[1 : len(t.text)-1]; first == '"' {
			t.kind = 'w' // a quoted name
		}
		return t
	case unicode.IsDigit(first):
		n := 0
		for n < len(rest) {
			r, s := utf8.DecodeRuneInString(rest[n:])
			if !isWord(r) && r != '#' && (r != '.' || strings.HasPrefix(rest[n:], "..")) {
				break
			}
			n += s
		}
		return take('n', n)
	case isWord(first):
		n := 0
		for n < len(rest) {
			r, s := utf8.DecodeRuneInString(rest[n:])
			if !isWord(r) && r != '#' {
				break
			}
			n += s
		}
		return take('w', n)
	case strings.HasPrefix(rest, ":="), strings.HasPrefix(rest, ".."):
		return take('s', 2)
	}
	return take('s', size)
}

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

// spec reads a type where it is used.
func (d *declarations) spec(name token, full string, depth int) (t iecType, ok bool) {
	if depth > mostNested {
		d.fault(d.ahead, "structures are nested more than %d deep", mostNested)
		return t, false
	}
	switch {
	case d.ahead.is("STRUCT"):
		d.take()
		d.structure(name, full, depth)
		return iecType{TypeName: full}, true
	case d.ahead.is("ARRAY"):
		return d.array(name, full, depth)
	case d.ahead.is("STRING"), d.ahead.is("WSTRING"):
		return d.bounded()
	case d.ahead.kind != 'w':
		d.fault(d.ahead, "%q stands where the type of %s is expected", d.ahead.text, name.text)
		return t, false
	}
	t.TypeName = d.take().text
	if d.ahead.is("(") { // a subrange does not change where it lies
		for d.ahead.kind != 0 && !d.ahead.is(")") && !d.ahead.is(";") {
			d.take()
		}
		if !d.expect(")", "the range of "+name.text) {
			return t, false
		}
	}
	return t, true
}

// mostDimensions bounds those of an array.
const mostDimensions = 4

func (d *declarations) array(name token, full string, depth int) (t iecType, ok bool) {
	opened := d.take()
	if !d.expect("[", "the array "+name.text) {
		return t, false
	}
	defined := &iecDefined{Kind: "ArrayTypeSpec"}
	for {
		low, okLow := d.number()
		if !okLow || !d.expect("..", "the bounds of "+name.text) {
			return t, false
		}
		high, okHigh := d.number()
		if !okHigh {
			return t, false
		}
		if high < low {
			d.fault(opened, "the array %s runs from %d to %d", name.text, low, high)
			return t, false
		}
		dimension := iecDimension{Number: len(defined.Dimensions) + 1}
		dimension.Index.Lower, dimension.Index.Upper = strconv.Itoa(low), strconv.Itoa(high)
		if defined.Dimensions = append(defined.Dimensions, dimension); !d.ahead.is(",") {
			break
		}
		d.take()
	}
	if !d.expect("]", "the array "+name.text) || !d.expect("OF", "the array "+name.text) {
		return t, false
	}
	if len(defined.Dimensions) > mostDimensions {
		d.fault(opened, "the array %s has %d dimensions: up to %d are read", name.text, len(defined.Dimensions),
			mostDimensions)
		return t, false
	}
	if d.ahead.is("ARRAY") {
		d.fault(d.ahead, "%s is an array of arrays: declare an array of a structure with an array in it", name.text)
		return t, false
	}
	base, ok := d.spec(name, full, depth)
	defined.BaseType = &base
	return iecType{Defined: defined}, ok
}

// bounded reads STRING and WSTRING with their lengths.
func (d *declarations) bounded() (t iecType, ok bool) {
	word := d.take()
	defined := &iecDefined{Kind: strings.ToUpper(word.text), MaxLength: "254"}
	for _, pair := range [][2]string{{"[", "]"}, {"(", ")"}} {
		if d.ahead.is(pair[0]) {
			d.take()
			n, ok := d.number()
			if !ok || !d.expect(pair[1], "the length of a "+word.text) {
				return t, false
			}
			defined.MaxLength = strconv.Itoa(n)
		}
	}
	return iecType{Defined: defined}, true
}

// number reads a whole number, typed or with a base, or a constant.
func (d *declarations) number() (n int, ok bool) {
	sign := 1
	if d.ahead.is("-") {
		d.take()
		sign = -1
	}
	t := d.ahead
	if t.kind == 'w' || t.kind == 'n' {
		d.take()
		if v, known := d.constants[strings.ToUpper(t.text)]; known {
			return sign * v, true
		}
		if v, err := wholeNumber(t.text); err == nil {
			return sign * v, true
		}
	}
	d.fault(t, "%q is no whole number, and no constant that is declared before", t.text)
	return 0, false
}

// wholeNumber reads 12, 1_000, 16#FF and INT#5.
func wholeNumber(text string) (int, error) {
	parts := strings.Split(strings.ReplaceAll(text, "_", ""), "#")
	base := 10
	if len(parts) > 1 {
		if b, err := strconv.Atoi(parts[len(parts)-2]); err == nil {
			base = b
		}
	}
	if base < 2 || base > 36 {
		return 0, fmt.Errorf("base %d", base)
	}
	n, err := strconv.ParseInt(parts[len(parts)-1], base, 64)
	if err != nil || n > math.MaxInt32 || n < math.MinInt32 {
		return 0, fmt.Errorf("%q is no number", text)
	}
	return int(n), nil
}

// initial passes over a start value, and returns it if it is a whole number.
func (d *declarations) initial() *int {
	if !d.ahead.is(":=") {
		return nil
	}
	d.take()
	var only *int
	first := true
	depth := 0
	for d.ahead.kind != 0 && (depth > 0 || !d.ahead.is(";") && !d.ahead.is(",")) {
		if d.ahead.is("END_VAR") || d.ahead.is("END_STRUCT") || d.ahead.is("END_TYPE") {
			break
		}
		if d.ahead.is("(") || d.ahead.is("[") {
			depth++
		} else if d.ahead.is(")") || d.ahead.is("]") {
			depth--
		}
		t := d.take()
		only = nil
		if n, err := wholeNumber(t.text); err == nil && first {
			only = &n
		}
		first = false
	}
	return only
}

// resolve writes the names of types as they were declared, for IEC 61131-3 does
// not tell capitals apart, and says which are declared nowhere.
func (d *declarations) resolve() {
	names := map[string]string{}
	for _, t := range d.doc.types {
		key := strings.ToUpper(t.Name)
		if other, twice := names[key]; twice {
			d.faults = append(d.faults,
				regmap.Rejected{Line: t.line, Cell: t.Name,
					Reason: fmt.Sprintf("the type %s is declared twice", other)})
			continue
		}
		names[key] = t.Name
	}
	resolve := func(v *iecVariable, of string) {
		t := &v.Type
		if t.Defined != nil && t.Defined.BaseType != nil {
			t = t.Defined.BaseType
		}
		if t.Defined != nil || t.TypeName == "" {
			return
		}
		if name, ok := names[strings.ToUpper(t.TypeName)]; ok {
			t.TypeName = name
			return
		}
		if _, _, err := regmap.ParseType(t.TypeName); err != nil && len(d.faults) < mostFaults {
			d.faults = append(d.faults, regmap.Rejected{Line: v.line, Column: "type", Cell: t.TypeName,
				Reason: fmt.Sprintf("the type %s of %s is declared nowhere", t.TypeName,
					strings.TrimPrefix(of+"."+v.Name, "."))})
		}
	}
	for i := range d.doc.types {
		for k := range d.doc.types[i].Spec.Members {
			resolve(&d.doc.types[i].Spec.Members[k], d.doc.types[i].Name)
		}
		if base := d.doc.types[i].Spec.BaseType; base != nil {
			alias := iecVariable{Name: d.doc.types[i].Name, Type: *base, line: d.doc.types[i].line}
			resolve(&alias, "")
			d.doc.types[i].Spec.BaseType = &alias.Type
		}
	}
	for i := range d.doc.variables {
		resolve(&d.doc.variables[i], "")
	}
}
