package files

import (
	"encoding/xml"
	"io"
	"strconv"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/layout"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// iecTypes names the types in IEC 61131-3. What has no counterpart is declared
// by its width, and its own name travels with it.
var iecTypes = map[value.Type]string{
	value.TypeBool: "BOOL", value.TypeInt8: "SINT", value.TypeUint8: "USINT", value.TypeInt16: "INT",
	value.TypeUint16: "UINT",
	value.TypeInt32:  "DINT", value.TypeUint32: "UDINT", value.TypeInt64: "LINT", value.TypeUint64: "ULINT",
	value.TypeFloat32: "REAL", value.TypeFloat64: "LREAL", value.TypeTime: "TIME", value.TypeDate: "DATE",
	value.TypeDT:   "DATE_AND_TIME",
	value.TypeEnum: "UINT", value.TypeEnum32: "UDINT", value.TypeFlags: "WORD", value.TypeFlags32: "DWORD",
	value.TypeBCD16: "WORD", value.TypeBCD32: "DWORD", value.TypeUnix: "UDINT", value.TypeUnixMs: "ULINT",
	value.TypeCP56: "LWORD", value.TypeBits: "WORD",
}

// WriteIEC writes maps as an IEC 61131-10 document: the structures as user
// types, and the points of each device as global variables of a resource.
// Cells that the format has no place for travel as additional data.
func WriteIEC(w io.Writer, name, created string, structures []site.Structure, maps []Map) error {
	type variable struct {
		XMLName       xml.Name `xml:"Variable"`
		Name          string   `xml:"name,attr"`
		Documentation *struct {
			Kind string `xml:"xsi:type,attr"`
			Text string `xml:",chardata"`
		} `xml:"Documentation,omitempty"`
		AddData *iecAddData `xml:"AddData,omitempty"`
		Type    outType     `xml:"Type"`
		Address *iecAddress `xml:"Address,omitempty"`
	}
	type resource struct {
		Name       string     `xml:"name,attr"`
		TypeName   string     `xml:"resourceTypeName,attr"`
		GlobalVars []variable `xml:"GlobalVars>Variable"`
	}
	type decl struct {
		Name string `xml:"name,attr"`
		Spec struct {
			Kind    string     `xml:"xsi:type,attr"`
			Members []variable `xml:"Member"`
		} `xml:"UserDefinedTypeSpec"`
	}
	var doc struct {
		XMLName xml.Name `xml:"Project"`
		Space   string   `xml:"xmlns,attr"`
		XSI     string   `xml:"xmlns:xsi,attr"`
		Schema  string   `xml:"schemaVersion,attr"`
		File    struct {
			Company string `xml:"companyName,attr"`
			Product string `xml:"productName,attr"`
			Version string `xml:"productVersion,attr"`
		} `xml:"FileHeader"`
		Content struct {
			Name    string `xml:"name,attr"`
			Created string `xml:"creationDateTime,attr"`
		} `xml:"ContentHeader"`
		Types     []decl `xml:"Types>GlobalNamespace>DataTypeDecl"`
		Instances struct {
			Configuration struct {
				Name      string     `xml:"name,attr"`
				Resources []resource `xml:"Resource"`
			} `xml:"Configuration"`
		} `xml:"Instances"`
	}
	doc.Space, doc.XSI, doc.Schema = iecNamespace, xsiNamespace, "1.0"
	doc.File.Company, doc.File.Product, doc.File.Version = "", "Ferry", "1"
	doc.Content.Name, doc.Content.Created = name, created
	doc.Instances.Configuration.Name = "Site"
	names := map[string]string{}
	for _, s := range structures {
		names[s.ID] = s.Name
	}
	for _, s := range structures {
		d := decl{Name: s.Name}
		d.Spec.Kind = "StructTypeSpec"
		for i := range s.Members {
			m := &s.Members[i]
			t := outTypeOf(m.Type, m.Length)
			if m.Structure != "" {
				t = outType{TypeName: names[m.Structure]}
			}
			if m.Count > 0 {
				element := t
				t = outType{Defined: &outDefined{Kind: "ArrayTypeSpec", BaseType: &element}}
				for _, dim := range append([]layout.Dim{{Count: m.Count, First: m.First}}, m.More...) {
					t.Defined.dimension(dim)
				}
			}
			d.Spec.Members = append(d.Spec.Members, variable{XMLName: xml.Name{Local: "Member"}, Name: m.Name, Type: t})
		}
		doc.Types = append(doc.Types, d)
	}
	for i := range maps {
		m := &maps[i]
		res := resource{Name: m.Device, TypeName: m.Protocol}
		for j := range m.Points {
			p := &m.Points[j]
			v := variable{Name: p.Name, Type: outTypeOf(p.Type, p.Length)}
			if p.Remark != "" {
				v.Documentation = &struct {
					Kind string `xml:"xsi:type,attr"`
					Text string `xml:",chardata"`
				}{"SimpleText", p.Remark}
			}
			data := iecData{Name: ferryData, HandleUnknown: "discard"}
			for _, column := range regmap.Columns() {
				if text := regmap.Cell(m.Scheme, p, column); text != "" && column != regmap.Name &&
					column != regmap.Remark {
					data.Cells = append(data.Cells, iecCell{string(column), text})
				}
			}
			v.AddData = &iecAddData{[]iecData{data}}
			if direct := directAddress(m.Scheme, p); direct != "" {
				v.Address = &iecAddress{direct}
			}
			res.GlobalVars = append(res.GlobalVars, v)
		}
		doc.Instances.Configuration.Resources = append(doc.Instances.Configuration.Resources, res)
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", "  ")
	if err := e.Encode(doc); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}

type outType struct {
	TypeName string      `xml:"TypeName,omitempty"`
	Defined  *outDefined `xml:"InstantlyDefinedType,omitempty"`
}

type outDefined struct {
	Kind       string         `xml:"xsi:type,attr"`
	MaxLength  string         `xml:"maxLength,attr,omitempty"`
	BaseType   *outType       `xml:"BaseType,omitempty"`
	Dimensions []iecDimension `xml:"DimensionSpec,omitempty"`
}

// dimension adds a dimension to an array.
func (d *outDefined) dimension(of layout.Dim) {
	added := iecDimension{Number: len(d.Dimensions) + 1}
	added.Index.Lower, added.Index.Upper = strconv.Itoa(of.First), strconv.Itoa(of.First+of.Count-1)
	d.Dimensions = append(d.Dimensions, added)
}

func outTypeOf(t value.Type, length int) outType {
	switch t {
	case value.TypeText:
		return outType{Defined: &outDefined{Kind: "StringTypeSpec", MaxLength: strconv.Itoa(length)}}
	case value.TypeBytes, value.TypeBase10k:
		base, count := outType{TypeName: "BYTE"}, length
		if t == value.TypeBase10k {
			base.TypeName = "WORD"
		}
		d := &outDefined{Kind: "ArrayTypeSpec", BaseType: &base}
		d.dimension(layout.Dim{Count: count})
		return outType{Defined: d}
	}
	return outType{TypeName: iecTypes[t]}
}

// directAddress prints the IEC 61131-3 address of a point, or "" if it has none.
func directAddress(scheme address.Scheme, p *site.Point) string {
	if text := address.Sized(scheme, p.Address, 8*p.Type.Bytes(p.Length)); strings.HasPrefix(text, "%") {
		return text
	}
	for _, n := range address.NotationsFor(scheme, p.Address, 8*p.Type.Bytes(p.Length)) {
		if strings.HasPrefix(n.Text, "%") {
			return n.Text
		}
	}
	return ""
}
