package iec61850

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"ferry/internal/core/markup"
)

// File is what is read of an SCL file (IEC 61850-6): of an ICD, CID, IID or SCD alike.
type File struct {
	Version string // and revision, as "2007 B4"
	ID      string // of the header
	IEDs    []*IED
	// Addresses are those of access points, by the names of IED and access point with a stroke between.
	Addresses map[string]map[string]string
	// Wrong is what of it cannot be used, with its line.
	Wrong []Wrong

	lnTypes map[string]*typed
	doTypes map[string]*typed
	daTypes map[string]*typed
	enums   map[string]map[int]string
}

// Wrong is a place of a file that cannot be used.
type Wrong struct {
	Line         int
	What, Reason string
}

// IED is a device of a file.
type IED struct {
	Name, Desc, Maker, Type, Version string
	AccessPoints                     []*AccessPoint
}

// AccessPoint is where an IED is talked to; without logical devices it is a client alone.
type AccessPoint struct {
	Name, Desc string
	Devices    []*LDevice
}

// LDevice is a logical device. Name is that on the wire, where the file gives one of its own.
type LDevice struct {
	Inst, Name, Desc string
	Nodes            []*LNode
}

// Domain is the name of a logical device on the wire: of its own, or the IED's with the instance.
func (l *LDevice) Domain(ied string) string {
	if l.Name != "" {
		return l.Name
	}
	return ied + l.Inst
}

// LNode is a logical node.
type LNode struct {
	Prefix, Class, Inst, Type, Desc string
	Line                            int
	// Values are those that the file gives to attributes, by their paths with points between, and
	// Descs the descriptions of data.
	Values, Descs map[string]string
	DataSets      []*DataSet
	Reports       []*Report
}

// Name is that of a logical node: "GGIO1", "LLN0".
func (l *LNode) Name() string { return l.Prefix + l.Class + l.Inst }

// DataSet is a list of data that are reported together.
type DataSet struct {
	Name, Desc string
	Members    []Member
}

// Member is data with a functional constraint, or an attribute of it.
type Member struct {
	Device, Node, Data, Attribute, FC string
}

// Report is a report control block.
type Report struct {
	Name, ID, DataSet, Desc string
	Buffered, Indexed       bool
	Revision                uint32
	BufferMs, IntegrityMs   uint32
	// Instances is how many clients may have one each.
	Instances int
	// Triggers and Options are those switched on, by the names of their attributes in the file.
	Triggers, Options map[string]bool
}

// typed is a type of the templates: of a logical node, of data or of an attribute.
type typed struct {
	id, class string // the class of a node, the common data class of data
	parts     []part
	line      int
}

// part is what a type has: data, an attribute, or a part of either.
type part struct {
	name, basic, of, fc string
	data                bool // it is data, whose type is one of data
	count               int
	value               string
	triggers            []string
	line                int
}

// Bounds of a file.
const (
	MostFile    = 64 << 20
	mostIEDs    = 5000
	mostMembers = 200_000
	mostParts   = 2_000_000
)

// ReadFile reads an SCL file. It fails where it is none; what of it cannot be used is in Wrong.
func ReadFile(data []byte) (*File, error) {
	if len(data) > MostFile {
		return nil, fmt.Errorf("it has %d MB: up to %d are read", len(data)>>20, MostFile>>20)
	}
	f := &File{Addresses: map[string]map[string]string{}, lnTypes: map[string]*typed{}, doTypes: map[string]*typed{},
		daTypes: map[string]*typed{}, enums: map[string]map[int]string{}}
	r := &sclReader{file: f}
	if err := markup.Read(data, r.begin, r.end); err != nil {
		return nil, err
	}
	if len(f.IEDs) == 0 {
		return nil, errors.New("there is no IED in it")
	}
	return f, nil
}

// sclReader goes through a file.
type sclReader struct {
	file *File

	ied     *IED
	access  *AccessPoint
	device  *LDevice
	node    *LNode
	path    []string // of the DOI, SDI and DAI around
	set     *DataSet
	report  *Report
	of      *typed
	attr    *part
	enum    map[int]string
	ord     int
	place   map[string]string // of the connected access point
	kind    string            // of the P around
	members int
	parts   int
}

func number(text string) int {
	n, err := strconv.ParseUint(text, 10, 31)
	if err != nil {
		return 0
	}
	return int(n)
}

func (r *sclReader) begin(e *markup.Element) error {
	if len(e.Path) == 1 && e.Name != "SCL" {
		return fmt.Errorf("it begins with %s: it is no SCL file", e.Name)
	}
	switch e.Name {
	case "SCL":
		r.file.Version = strings.TrimSpace(e.Attr("version") + " " + e.Attr("revision") + e.Attr("release"))
	case "Header":
		r.file.ID = e.Attr("id")
	case "IED":
		if len(r.file.IEDs) >= mostIEDs {
			return fmt.Errorf("it has more than %d IEDs", mostIEDs)
		}
		r.ied = &IED{Name: e.Attr("name"), Desc: e.Attr("desc"), Maker: e.Attr("manufacturer"), Type: e.Attr("type"),
			Version: e.Attr("configVersion")}
		r.file.IEDs = append(r.file.IEDs, r.ied)
	case "AccessPoint":
		if r.ied != nil {
			r.access = &AccessPoint{Name: e.Attr("name"), Desc: e.Attr("desc")}
			r.ied.AccessPoints = append(r.ied.AccessPoints, r.access)
		}
	case "LDevice":
		if r.access != nil {
			r.device = &LDevice{Inst: e.Attr("inst"), Name: e.Attr("ldName"), Desc: e.Attr("desc")}
			r.access.Devices = append(r.access.Devices, r.device)
		}
	case "LN0", "LN":
		if r.device != nil {
			r.node = &LNode{Prefix: e.Attr("prefix"), Class: e.Attr("lnClass"), Inst: e.Attr("inst"), Type: e.Attr("lnType"),
				Desc: e.Attr("desc"), Line: e.Line, Values: map[string]string{}, Descs: map[string]string{}}
			r.device.Nodes = append(r.device.Nodes, r.node)
		}
	case "DOI", "SDI", "DAI":
		r.path = append(r.path, e.Attr("name")+index(e.Attr("ix")))
		if r.node != nil && e.Attr("desc") != "" {
			r.node.Descs[strings.Join(r.path, ".")] = e.Attr("desc")
		}
	case "ConnectedAP":
		r.place = map[string]string{}
		r.file.Addresses[e.Attr("iedName")+"/"+e.Attr("apName")] = r.place
	case "P":
		r.kind = e.Attr("type")
	default:
		return r.lists(e)
	}
	return nil
}

func index(ix string) string {
	if ix == "" {
		return ""
	}
	return "(" + ix + ")"
}

// lists takes data sets and reports.
func (r *sclReader) lists(e *markup.Element) error {
	switch {
	case e.Name == "DataSet" && r.node != nil:
		r.set = &DataSet{Name: e.Attr("name"), Desc: e.Attr("desc")}
		r.node.DataSets = append(r.node.DataSets, r.set)
	case e.Name == "FCDA" && r.set != nil:
		if r.members++; r.members > mostMembers {
			return fmt.Errorf("its data sets have more than %d members", mostMembers)
		}
		r.set.Members = append(r.set.Members,
			Member{Device: e.Attr("ldInst"), Node: e.Attr("prefix") + e.Attr("lnClass") + e.Attr("lnInst"),
				Data: e.Attr("doName"), Attribute: e.Attr("daName"), FC: e.Attr("fc")})
	case e.Name == "ReportControl" && r.node != nil:
		r.report = &Report{Name: e.Attr("name"), ID: e.Attr("rptID"), DataSet: e.Attr("datSet"), Desc: e.Attr("desc"),
			Buffered: e.Attr("buffered") == "true", Indexed: e.Attr("indexed") != "false",
			Revision: uint32(number(e.Attr("confRev"))), BufferMs: uint32(number(e.Attr("bufTime"))),
			IntegrityMs: uint32(number(e.Attr("intgPd"))), Instances: 1, Triggers: map[string]bool{},
			Options: map[string]bool{}}
		r.node.Reports = append(r.node.Reports, r.report)
	case e.Name == "TrgOps" && r.report != nil:
		for _, name := range []string{"dchg", "qchg", "dupd", "period", "gi"} {
			r.report.Triggers[name] = e.Attr(name) == "true" || name == "gi" && e.Attr(name) == ""
		}
	case e.Name == "OptFields" && r.report != nil:
		for _, name := range []string{"seqNum", "timeStamp", "dataSet", "reasonCode", "dataRef", "entryID", "configRef",
			"bufOvfl"} {
			r.report.Options[name] = e.Attr(name) == "true"
		}
	case e.Name == "RptEnabled" && r.report != nil:
		r.report.Instances = max(1, min(number(e.Attr("max")), 100))
	default:
		return r.templates(e)
	}
	return nil
}

// templates takes types.
func (r *sclReader) templates(e *markup.Element) error {
	f := r.file
	begin := func(into map[string]*typed, class string) {
		r.of = &typed{id: e.Attr("id"), class: class, line: e.Line}
		if into[r.of.id] != nil {
			f.Wrong = append(f.Wrong, Wrong{e.Line, "type " + r.of.id, "there are two of it: the first counts"})
			return
		}
		into[r.of.id] = r.of
	}
	take := func(p part) error {
		if r.of == nil {
			return nil
		}
		if r.parts++; r.parts > mostParts {
			return fmt.Errorf("its types have more than %d parts", mostParts)
		}
		p.line = e.Line
		r.of.parts = append(r.of.parts, p)
		r.attr = &r.of.parts[len(r.of.parts)-1]
		return nil
	}
	switch e.Name {
	case "LNodeType":
		begin(f.lnTypes, e.Attr("lnClass"))
	case "DOType":
		begin(f.doTypes, e.Attr("cdc"))
	case "DAType":
		begin(f.daTypes, "")
	case "DO", "SDO":
		return take(part{name: e.Attr("name"), of: e.Attr("type"), data: true, count: number(e.Attr("count"))})
	case "DA", "BDA":
		p := part{name: e.Attr("name"), basic: e.Attr("bType"), of: e.Attr("type"), fc: e.Attr("fc"),
			count: number(e.Attr("count"))}
		for _, name := range []string{"dchg", "qchg", "dupd"} {
			if e.Attr(name) == "true" {
				p.triggers = append(p.triggers, name)
			}
		}
		return take(p)
	case "EnumType":
		r.enum = map[int]string{}
		f.enums[e.Attr("id")] = r.enum
	case "EnumVal":
		n, err := strconv.Atoi(e.Attr("ord"))
		if r.ord = n; err != nil {
			f.Wrong = append(f.Wrong, Wrong{e.Line, "value of an enumeration", fmt.Sprintf("its number is %q", e.Attr("ord"))})
		}
	}
	return nil
}

func (r *sclReader) end(e *markup.Element, text string) error {
	switch e.Name {
	case "IED":
		r.ied = nil
	case "AccessPoint":
		r.access = nil
	case "LDevice":
		r.device = nil
	case "LN0", "LN":
		r.node = nil
	case "DOI", "SDI", "DAI":
		r.path = r.path[:len(r.path)-1]
	case "Val":
		switch {
		case len(r.path) > 0 && r.node != nil:
			r.node.Values[strings.Join(r.path, ".")] = text
		case r.attr != nil:
			r.attr.value = text
		}
	case "DataSet":
		r.set = nil
	case "ReportControl":
		r.report = nil
	case "LNodeType", "DOType", "DAType":
		r.of, r.attr = nil, nil
	case "DA", "BDA", "DO", "SDO":
		r.attr = nil
	case "EnumType":
		r.enum = nil
	case "EnumVal":
		if r.enum != nil {
			r.enum[r.ord] = text
		}
	case "ConnectedAP":
		r.place = nil
	case "P":
		if r.place != nil && e.Within("Address") {
			r.place[r.kind] = text
		}
	}
	return nil
}
