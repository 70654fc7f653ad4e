package files

import (
	"bytes"
	"cmp"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/charset"
	"ferry/internal/core/layout"
	"ferry/internal/core/problem"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// The XML exchange format of IEC 61131-10: user types and global variables with
// their direct addresses.
const (
	iecNamespace = "www.iec.ch/public/TC65SC65BWG7TF10"
	xsiNamespace = "http://www.w3.org/2001/XMLSchema-instance"
	// ferryData names the additional data in which a point's other cells
	// travel (clause "AddData" of the format).
	ferryData = "ferry-point"
)

type iecType struct {
	TypeName string      `xml:"TypeName,omitempty"`
	Defined  *iecDefined `xml:"InstantlyDefinedType,omitempty"`
}

// iecDefined is a type that is written where it is used: an array, a bounded
// string.
type iecDefined struct {
	Kind       string         `xml:"type,attr"`
	BaseType   *iecType       `xml:"BaseType,omitempty"`
	Dimensions []iecDimension `xml:"DimensionSpec,omitempty"`
	MaxLength  string         `xml:"maxLength,attr,omitempty"`
}

type iecDimension struct {
	Number int `xml:"dimensionNumber,attr"`
	Index  struct {
		Lower string `xml:"lower,attr"`
		Upper string `xml:"upper,attr"`
	} `xml:"IndexRange"`
}

type iecVariable struct {
	Name          string      `xml:"name,attr"`
	Documentation *iecText    `xml:"Documentation,omitempty"`
	AddData       *iecAddData `xml:"AddData,omitempty"`
	Type          iecType     `xml:"Type"`
	Address       *iecAddress `xml:"Address,omitempty"`

	line    int  // of the source, where it is a text
	initial *int // start value, if it is a whole number
}

type iecAddress struct {
	Address string `xml:"address,attr"`
}

type iecText struct {
	Text string `xml:",chardata"`
}

type iecAddData struct {
	Data []iecData `xml:"Data"`
}

type iecData struct {
	Name          string    `xml:"name,attr"`
	HandleUnknown string    `xml:"handleUnknown,attr"`
	Cells         []iecCell `xml:"Cell"`
}

// cells returns the cells of a point that Ferry itself has handed out.
func (a *iecAddData) cells() []iecCell {
	if a == nil {
		return nil
	}
	for _, data := range a.Data {
		if data.Name == ferryData {
			return data.Cells
		}
	}
	return nil
}

type iecCell struct {
	Column string `xml:"column,attr"`
	Text   string `xml:",chardata"`
}

type iecUserDefined struct {
	Kind    string        `xml:"type,attr"`
	Members []iecVariable `xml:"Member"`
	// Enumerators of an enumeration.
	Enumerators []iecEnumerator `xml:"Enumerator"`
	BaseType    *iecType        `xml:"BaseType"`
}

type iecEnumerator struct {
	Name  string `xml:"name,attr"`
	Value struct {
		Simple struct {
			Value string `xml:"value,attr"`
		} `xml:"SimpleValue"`
	} `xml:"Value"`
}

type iecTypeDecl struct {
	Name string         `xml:"name,attr"`
	Spec iecUserDefined `xml:"UserDefinedTypeSpec"`

	line int
}

// iecDocument is what is taken from a document: types and global variables
// wherever they stand.
type iecDocument struct {
	types     []iecTypeDecl
	variables []iecVariable
}

// mostXML bounds a document, in octets: read, it takes some ten times as much.
const mostXML = 24 << 20

// mostXMLDepth bounds nesting, against documents made to exhaust the stack.
const mostXMLDepth = 100

// scan walks through a document and gathers its types and global variables.
// Namespaces are not compared: documents state them in many ways.
func scanIEC(data []byte) (*iecDocument, error) {
	d := xml.NewDecoder(bytes.NewReader(data))
	d.Strict = true
	d.CharsetReader = func(set string, in io.Reader) (io.Reader, error) {
		if strings.EqualFold(set, "iso-8859-1") || strings.EqualFold(set, "windows-1252") {
			raw, err := io.ReadAll(in)
			if err != nil {
				return nil, err
			}
			return strings.NewReader(charset.Single(raw)), nil
		}
		if strings.EqualFold(set, "utf-16") { // its mark has told so, and it is UTF-8 by now
			return in, nil
		}
		return nil, fmt.Errorf("character set %s is not read; save the document as UTF-8", set)
	}
	var doc iecDocument
	depth, globals, root := 0, 0, true
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			return &doc, nil
		}
		if err != nil {
			return nil, err
		}
		switch t := token.(type) {
		case xml.Directive:
			return nil, errors.New("the document has a DOCTYPE, which the format does not allow")
		case xml.EndElement:
			depth--
			if t.Name.Local == "GlobalVars" {
				globals--
			}
		case xml.StartElement:
			if root && t.Name.Local != "Project" {
				return nil, fmt.Errorf("its root is %s, not Project", t.Name.Local)
			}
			root = false
			if depth++; depth > mostXMLDepth {
				return nil, errors.New("it is nested too deeply")
			}
			switch {
			case t.Name.Local == "GlobalVars":
				globals++
			case t.Name.Local == "DataTypeDecl":
				var decl iecTypeDecl
				if err := d.DecodeElement(&decl, &t); err != nil {
					return nil, err
				}
				depth--
				doc.types = append(doc.types, decl)
			case t.Name.Local == "Variable" && globals > 0:
				var v iecVariable
				if err := d.DecodeElement(&v, &t); err != nil {
					return nil, err
				}
				depth--
				doc.variables = append(doc.variables, v)
			}
		}
	}
}

// readIEC reads an IEC 61131-10 document as a table: a row for each global
// variable, those of structures and arrays taken apart into their members.
// Where a member lies follows from the address of its variable and the
// word-aligned layout; register maps take packed registers.
func readIEC(data []byte, scheme address.Scheme, begin string) (*Source, error) {
	if len(data) > mostXML {
		return nil, problem.New("too-large", fmt.Sprintf("The document is larger than %d MB.", mostXML>>20),
			"Export the variables by parts.")
	}
	doc, err := scanIEC(data)
	if err != nil {
		return nil, problem.New("not-a-table", "The file is no IEC 61131-10 document: "+err.Error()+".",
			"Export global variables from the programming tool in the XML format of IEC 61131-10.")
	}
	return takeDeclared("iec61131-10", doc, nil, scheme, begin)
}

// takeDeclared makes a table of declarations. Variables without an address lie
// one after the other from begin on, an address; where that is empty, they have
// none.
func takeDeclared(format string, doc *iecDocument, faults []regmap.Rejected, scheme address.Scheme,
	begin string) (*Source, error) {
	r := iecReader{scheme: scheme, site: &site.Site{}, enums: map[string][]site.Naming{}, aliases: map[string]iecType{},
		faults: faults}
	r.declare(doc.types)
	columns := regmap.Columns()
	headings := make([]string, len(columns))
	for i, column := range columns {
		headings[i] = string(column)
	}
	r.rows = append(r.rows, regmap.Row{Line: 1, Cells: headings})
	var open []*iecVariable
	for i := range doc.variables {
		if v := &doc.variables[i]; v.Address == nil && v.AddData.cells() == nil {
			open = append(open, v)
		} else if err := r.variable(v); err != nil {
			return nil, err
		}
	}
	source := &Source{Format: format, Structures: r.site.Structures}
	for _, v := range open {
		source.Unplaced = append(source.Unplaced, v.Name)
	}
	if err := r.follow(open, begin); err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(doc.variables, func(v iecVariable) bool { return v.AddData.cells() != nil }) {
		r.sayOnly(columns, regmap.Name, regmap.Address, regmap.Type, regmap.Names, regmap.Remark)
	}
	source.Rows, source.Faults, source.Placements = r.rows, r.faults, r.placements
	return source, nil
}

// sayOnly leaves out the columns of which declarations say nothing, so that what
// a map has there stays.
func (r *iecReader) sayOnly(columns []regmap.Column, which ...regmap.Column) {
	for i := range r.rows {
		cells := make([]string, len(which))
		for k, column := range which {
			if at := slices.Index(columns, column); at < len(r.rows[i].Cells) {
				cells[k] = r.rows[i].Cells[at]
			}
		}
		r.rows[i].Cells = cells
	}
}

// follow lays variables without an address out one after the other.
func (r *iecReader) follow(open []*iecVariable, begin string) (failed error) {
	if len(open) == 0 {
		return nil
	}
	if begin == "" {
		for _, v := range open {
			if v.Type.TypeName == "" && v.Type.Defined == nil {
				continue // it could not be read
			}
			if err := r.variable(v); err != nil {
				return err
			}
		}
		return nil
	}
	shell := site.Structure{ID: "\x00variables", Name: "the variables"}
	lines, elements := map[string]int{}, 0
	for k, v := range open {
		m := r.member(v)
		if m.Type == "" && m.Structure == "" && v.Type.TypeName == "" && v.Type.Defined == nil {
			// It could not be read, and that has been said.
			defer func(rest []*iecVariable) { failed = errors.Join(failed, r.follow(rest, "")) }(open[k+1:])
			break
		}
		one, err := r.lay(&site.Structure{ID: "\x00" + v.Name, Name: v.Name, Members: []site.Member{m}}, "")
		if elements += len(one); elements > layout.MostPlaces {
			return problem.New("too-large", fmt.Sprintf("The variables have more than %d elements.", layout.MostPlaces),
				"Export them by parts.")
		}
		if err != nil {
			// Where what follows lies is not known either.
			r.faults = append(r.faults, regmap.Rejected{Line: v.line, Column: "type", Cell: v.Name,
				Reason: fmt.Sprintf("%s cannot be laid out: %v; it and %d variables behind it have no address", v.Name,
					err, len(open)-k-1)})
			defer func(rest []*iecVariable) { failed = errors.Join(failed, r.follow(rest, "")) }(open[k:])
			break
		}
		shell.Members = append(shell.Members, m)
		lines[m.Name] = v.line
	}
	points, err := r.lay(&shell, begin)
	if err != nil {
		return problem.New("no-layout", "The variables cannot be laid out from "+begin+" on: "+err.Error()+".",
			"Correct the declarations, or give another beginning.")
	}
	return r.add(points, func(p *site.Point) int {
		return lines[p.Name[:strings.IndexAny(p.Name+".", ".[")]]
	})
}

// add adds a row for each point, with its line in the source.
func (r *iecReader) add(points []site.Point, line func(*site.Point) int) error {
	for i := range points {
		n := line(&points[i])
		if n == 0 {
			n = len(r.rows) + 1
		}
		r.rows = append(r.rows, rowOf(r.scheme, &points[i], n))
	}
	if len(r.rows)*len(regmap.Columns()) > MostCells {
		return problem.New("too-large", fmt.Sprintf("The variables have more than %d cells.", MostCells),
			"Export them by parts.")
	}
	return nil
}

type iecReader struct {
	scheme address.Scheme
	site   *site.Site // holds the structures
	enums  map[string][]site.Naming
	// aliases are other names of types.
	aliases map[string]iecType
	rows    []regmap.Row
	faults  []regmap.Rejected
	// placements are the variables of a structure that have an address.
	placements []site.Placement
}

// declare takes in user types: structures, and enumerations as names.
func (r *iecReader) declare(types []iecTypeDecl) {
	for _, t := range types {
		switch {
		case strings.HasSuffix(t.Spec.Kind, "StructTypeSpec"):
			r.site.Structures = append(r.site.Structures, site.Structure{ID: t.Name, Name: t.Name})
		case strings.HasPrefix(t.Spec.Kind, "Enum") || strings.Contains(t.Spec.Kind, ":Enum"):
			names := []site.Naming{}
			for i, e := range t.Spec.Enumerators {
				n, err := strconv.ParseInt(e.Value.Simple.Value, 0, 64)
				if err != nil {
					n = int64(i)
				}
				names = append(names, site.Naming{Value: n, Name: e.Name})
			}
			r.enums[t.Name] = names
		case t.Spec.Kind == "Alias" && t.Spec.BaseType != nil:
			r.aliases[t.Name] = *t.Spec.BaseType
		}
	}
	for _, t := range types {
		s := r.site.Structure(t.Name)
		if s == nil {
			continue
		}
		for i := range t.Spec.Members {
			s.Members = append(s.Members, r.member(&t.Spec.Members[i]))
		}
	}
}

// dimensionsOf are those of an array; none where one of them is no range.
func dimensionsOf(d *iecDefined) (dims []layout.Dim) {
	for _, of := range d.Dimensions {
		lower, errA := strconv.Atoi(of.Index.Lower)
		upper, errB := strconv.Atoi(of.Index.Upper)
		if errA != nil || errB != nil || upper < lower {
			return nil
		}
		count := layout.MostPlaces + 1 // too many, of which laying it out says so
		if span := upper - lower; span >= 0 && span < layout.MostPlaces {
			count = span + 1
		}
		dims = append(dims, layout.Dim{Count: count, First: lower})
	}
	return dims
}

// member turns a variable declaration into a member of a structure. A type that
// is not known stays an empty one, which the layout reports.
func (r *iecReader) member(v *iecVariable) site.Member {
	m := site.Member{Name: v.Name}
	if v.Documentation != nil {
		m.Remark = strings.TrimSpace(v.Documentation.Text)
	}
	t := v.Type
	for range mostNested { // a name for a name for a type
		other, ok := r.aliases[t.TypeName]
		if !ok {
			break
		}
		t = other
	}
	if d := t.Defined; d != nil {
		switch {
		case strings.Contains(d.Kind, "Array") && d.BaseType != nil && len(d.Dimensions) > 0:
			dims := dimensionsOf(d)
			if len(dims) > 0 {
				m.First, m.Count, m.More = dims[0].First, dims[0].Count, dims[1:]
			}
			t = *d.BaseType
		}
	}
	if d := t.Defined; d != nil && strings.Contains(strings.ToUpper(d.Kind), "STRING") {
		if n, err := strconv.Atoi(d.MaxLength); err == nil {
			m.Type, m.Length = value.TypeText, n
		}
		if r.byBytes() {
			m.Padding = value.Counted
		}
		return m
	}
	name := strings.TrimSpace(t.TypeName)
	if r.site.Structure(name) != nil {
		m.Structure = name
		return m
	}
	if names, ok := r.enums[name]; ok {
		m.Type, m.Names = value.TypeEnum, names
		return m
	}
	if typ, length, err := regmap.ParseType(name); err == nil {
		m.Type, m.Length = typ, length
	}
	return m
}

// variable adds the rows of one global variable. One of a document that cannot be
// taken apart becomes a row as it stands, to be corrected in the preview; in a
// text its place is told.
func (r *iecReader) variable(v *iecVariable) error {
	place := ""
	if v.Address != nil {
		place = v.Address.Address
	}
	m := r.member(v)
	if m.Structure == "" && m.Count == 0 || v.AddData.cells() != nil {
		r.single(v, &m, place)
		return nil
	}
	points, err := r.takeApart(v.Name, m, place)
	if err != nil && v.line > 0 {
		why := fmt.Sprintf("%s cannot be laid out: %s", v.Name, err)
		if strings.Contains(err.Error(), unread) || strings.HasSuffix(err.Error(), "has no width") {
			why = v.Name + " is left out: a part of its type could not be read"
		}
		r.faults = append(r.faults, regmap.Rejected{Line: v.line, Column: "type", Cell: v.Name, Reason: why})
		return nil
	} else if err != nil {
		m.Type, m.Remark = "", strings.TrimSpace(m.Remark+" Cannot be taken apart: "+err.Error()+".")
		r.single(v, &m, place)
		return nil
	}
	if at, err := r.scheme.Parse(place, ""); err == nil && m.Structure != "" && m.Count == 0 {
		p := block.Of(at)
		r.placements = append(r.placements,
			site.Placement{Structure: m.Structure, Prefix: v.Name + ".", Area: p.Area, Start: p.Offset,
				Rule: r.ruleAt(p.Area)})
	}
	return r.add(points, func(*site.Point) int { return v.line })
}

// byBytes reports whether the map is of a memory of bytes, in which texts are
// counted.
func (r *iecReader) byBytes() bool {
	areas := block.AreasOf(r.scheme)
	return len(areas) > 0 && areas[0].UnitBits == 8
}

// takeApart lays out a variable of a structure or an array from its address on.
func (r *iecReader) takeApart(name string, m site.Member, place string) ([]site.Point, error) {
	return r.lay(&site.Structure{ID: "\x00" + name, Name: name, Members: []site.Member{m}}, place)
}

// ruleAt is the layout rule of an area: that of registers where its units have 16
// bits, otherwise that of bytes.
func (r *iecReader) ruleAt(key string) layout.Rule {
	if area, _ := block.AreaOf(r.scheme, key); area.UnitBits == 16 {
		return layout.Registers
	}
	return layout.Words
}

// lay lays a structure out from an address on, by the rule of its memory. Without
// one, the points have none.
func (r *iecReader) lay(shell *site.Structure, place string) ([]site.Point, error) {
	if place == "" {
		points, err := r.site.Lay(shell, layout.Words, address.Address{}, 8)
		for i := range points {
			points[i].Address = address.Address{}
		}
		return points, err
	}
	start, err := r.scheme.Parse(place, "")
	if err != nil {
		return nil, err
	}
	area, _ := block.AreaOf(r.scheme, block.Of(start).Area)
	return r.site.Lay(shell, r.ruleAt(area.Key), start, area.UnitBits)
}

func (r *iecReader) single(v *iecVariable, m *site.Member, place string) {
	cells := map[regmap.Column]string{regmap.Name: v.Name, regmap.Address: place, regmap.Remark: m.Remark}
	p := site.Point{Type: m.Type, Length: m.Length, Padding: m.Padding, Names: m.Names}
	if m.Type != "" {
		cells[regmap.Type] = regmap.PrintType(&p)
		cells[regmap.Names] = regmap.Cell(r.scheme, &p, regmap.Names)
	} else {
		cells[regmap.Type] = v.Type.TypeName // to be corrected in the preview
		if v.Type.Defined != nil {
			cells[regmap.Type] = "array"
		}
	}
	for _, c := range v.AddData.cells() {
		cells[regmap.Column(c.Column)] = c.Text
	}
	row := regmap.Row{Line: cmp.Or(v.line, len(r.rows)+1)}
	for _, column := range regmap.Columns() {
		row.Cells = append(row.Cells, cells[column])
	}
	r.rows = append(r.rows, row)
}
