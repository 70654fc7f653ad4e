package bacnet

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"

	"ferry/internal/core/charset"
)

// Exchange is a list of objects for whoever engineers a building's network, as a table of text: the
// engineering data exchange of the interest group, in its layouts from 1 to 2. The names of states are in a table of
// their own, a file beside it, whose rows the objects refer to by number.
type Exchange struct {
	Project, Version, Author, Changed, Layout string
	Rows                                      []ExchangeRow
	States                                    map[int][]string
}

// ExchangeRow is one object of it. What the list leaves open is empty, -1 or nil.
type ExchangeRow struct {
	Key         string
	Device      uint32
	Name        string
	Type        Type
	Instance    uint32
	Description string
	Default     string
	Low, High   *float64
	Settable    bool
	Reports     bool   // of changes of its value
	Texts       int    // the row of the list of states, 0 for none
	Unit        Unit   // NoUnits for none
	Address     string // in the device, as its maker writes it
	Line        int
}

// columnsOf are the columns of the table by what they are called in its heading, in the order in which
// lists have them that have none.
var columnsOf = []string{"keyname", "deviceobjinstance", "objectname", "objecttype", "objectinstance", "description",
	"presentvaluedefault",
	"minpresentvalue", "maxpresentvalue", "settable", "supportscov", "hilimit", "lowlimit", "statetextreference",
	"unitcode",
	"vendorspecificaddress", "notificationclass"}

// columnKey is a heading without what lists write in one way or another.
func columnKey(text string) string {
	return strings.NewReplacer(" ", "", "-", "", "_", "", ".", "", "#", "", "/",
		"").Replace(strings.ToLower(strings.TrimSpace(text)))
}

// Bounds of a list.
const (
	mostExchange     = 16 << 20
	mostExchangeRows = 200_000
)

// separatorOf is that which parts the columns of a table: the one that the line with the headings, or else
// the longest of the first lines, has most of.
func separatorOf(text string) rune {
	best, most := ';', 0
	for i, line := range strings.SplitN(text, "\n", 40) {
		if i >= 39 {
			break
		}
		for _, r := range ";,\t" {
			if n := strings.Count(line, string(r)); n > most {
				best, most = r, n
			}
		}
	}
	return best
}

// ReadExchange reads a list, with the table of its states where that is joined to it, before or behind. Lines that are
// no objects are told with why not.
func ReadExchange(data []byte) (x Exchange, wrong []string, err error) {
	if len(data) > mostExchange {
		return x, nil, fmt.Errorf("the list has %d MB: up to %d are read", len(data)>>20, mostExchange>>20)
	}
	text, states := sections(charset.Text(data))
	if x.States, err = readStates(states); err != nil {
		return x, nil, err
	}
	r := csv.NewReader(strings.NewReader(text))
	r.Comma, r.FieldsPerRecord, r.LazyQuotes = separatorOf(text), -1, true
	at := map[string]int{}
	for i, key := range columnsOf {
		at[key] = i
	}
	known := false
	for {
		fields, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return x, wrong, fmt.Errorf("the list is no table: %w", err)
		}
		line, _ := r.FieldPos(0)
		first := strings.TrimSpace(fields[0])
		second := ""
		if len(fields) > 1 {
			second = strings.TrimSpace(fields[1])
		}
		switch key := columnKey(first); {
		case key == "projectname":
			x.Project = second
		case key == "versionofreferencefile":
			x.Version = second
		case key == "timestampoflastchange":
			x.Changed = second
		case key == "authoroflastchange":
			x.Author = second
		case key == "versionoflayout":
			x.Layout = second
		case key == "keyname" || key == "mandatory":
			if key == "keyname" {
				known = true
				clear(at)
				for i, f := range fields {
					if k := columnKey(f); k != "" {
						at[k] = i
					}
				}
			}
		case strings.HasPrefix(first, "#") || strings.Join(fields, "") == "":
		default:
			row, why := exchangeRow(fields, at)
			switch {
			case why != "" && len(wrong) < 1000:
				wrong = append(wrong, fmt.Sprintf("line %d: %s", line, why))
			case why == "":
				if row.Line = line; len(x.Rows) >= mostExchangeRows {
					return x, wrong, fmt.Errorf("the list has more than %d objects", mostExchangeRows)
				}
				x.Rows = append(x.Rows, row)
			}
		}
	}
	if !known && len(x.Rows) == 0 {
		return x, wrong, errors.New("it is no list of objects: a line with the headings keyname, device obj.-instance, object-name and so on is missing")
	}
	return x, wrong, nil
}

// sections parts a text into the lines of the list and those of the table of states. In either, the lines of the other
// are empty, so that all keep their numbers.
func sections(text string) (objects, states string) {
	lines := strings.SplitAfter(strings.ReplaceAll(text, "\ufeff", ""), "\n")
	var of [2]strings.Builder
	in := 0
	for _, line := range lines {
		first := line
		if at := strings.IndexAny(line, ";,\t"); at >= 0 {
			first = line[:at]
		}
		switch columnKey(strings.Trim(first, "\"\r\n")) {
		case "statetextreference", "referencenumber":
			in = 1
		case "engineeringdataexchange", "projectname", "keyname":
			in = 0
		}
		of[in].WriteString(line)
		of[1-in].WriteString("\n")
	}
	return of[0].String(), of[1].String()
}

// Bounds of the table of states.
const (
	mostStateRows = 20_000
	mostStates    = 1000 // names in a row
)

// readStates reads the table of states: a number, and the names from the first, or the inactive, state on.
func readStates(text string) (map[int][]string, error) {
	states := map[int][]string{}
	r := csv.NewReader(strings.NewReader(text))
	r.Comma, r.FieldsPerRecord, r.LazyQuotes = separatorOf(strings.TrimLeft(text, "\r\n")), -1, true
	for {
		fields, err := r.Read()
		if errors.Is(err, io.EOF) {
			return states, nil
		}
		if err != nil {
			return states, fmt.Errorf("the list of state texts is no table: %w", err)
		}
		n, err := strconv.Atoi(strings.TrimSpace(fields[0]))
		if err != nil || n < 1 { // a heading
			continue
		}
		names := fields[1:min(len(fields), 1+mostStates)]
		for len(names) > 0 && strings.TrimSpace(names[len(names)-1]) == "" {
			names = names[:len(names)-1]
		}
		if len(states) >= mostStateRows {
			return states, fmt.Errorf("the list of state texts has more than %d rows", mostStateRows)
		}
		for _, name := range names {
			states[n] = append(states[n], strings.TrimSpace(name))
		}
	}
}

// named are the names of a row of states as an object of a type counts them: a binary one from 0 on, another from 1.
func (x *Exchange) named(row int, t Type) map[int]string {
	names := map[int]string{}
	for i, name := range x.States[row] {
		if name != "" {
			names[i+firstState(t)] = name
		}
	}
	return names
}

func firstState(t Type) int {
	if t == BinaryInput || t == BinaryOutput || t == BinaryValue {
		return 0
	}
	return 1
}

// refer has a row of the object's states be there, and returns its number; 0 where they are none that such a table
// holds.
func (x *Exchange) refer(names map[int]string, t Type) int {
	var list []string
	for n := firstState(t); len(list) < len(names); n++ {
		name, has := names[n]
		if !has {
			return 0
		}
		list = append(list, name)
	}
	if len(list) == 0 {
		return 0
	}
	for n := 1; ; n++ {
		if there := x.States[n]; there == nil {
			x.States[n] = list
			return n
		} else if slices.Equal(there, list) {
			return n
		}
	}
}

// AppendStates appends the table of states as text, with semicolons.
func (x *Exchange) AppendStates(dst []byte) ([]byte, error) {
	most := 0
	for _, names := range x.States {
		most = max(most, len(names))
	}
	heading := []string{"# Reference Number"}
	for n := 1; n <= most; n++ {
		heading = append(heading,
			fmt.Sprintf("Text %d%s", n, map[int]string{1: " or Inactive-Text", 2: " or Active-Text"}[n]))
	}
	rows := [][]string{{"# State Text Reference"}, heading}
	for _, n := range slices.Sorted(maps.Keys(x.States)) {
		row := append([]string{strconv.Itoa(n)}, x.States[n]...)
		rows = append(rows, append(row, make([]string, most-len(x.States[n]))...))
	}
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.Comma = ';'
	if err := w.WriteAll(rows); err != nil {
		return dst, err
	}
	return append(dst, b.Bytes()...), nil
}

func exchangeRow(fields []string, at map[string]int) (row ExchangeRow, why string) {
	cell := func(key string) string {
		if i, ok := at[key]; ok && i < len(fields) {
			return strings.TrimSpace(fields[i])
		}
		return ""
	}
	number := func(key, what string, most uint64) uint32 {
		n, err := strconv.ParseUint(cell(key), 10, 32)
		if why == "" && (err != nil || n > most) {
			why = fmt.Sprintf("the %s is %q, and a number up to %d is wanted", what, cell(key), most)
		}
		return uint32(n)
	}
	limit := func(key string) *float64 {
		f, err := strconv.ParseFloat(strings.Replace(cell(key), ",", ".", 1), 64)
		if err != nil {
			return nil
		}
		return &f
	}
	yes := func(key string) bool {
		return slices.Contains([]string{"y", "yes", "1", "true", "j", "ja", "x"}, strings.ToLower(cell(key)))
	}
	row = ExchangeRow{Key: cell("keyname"), Device: number("deviceobjinstance", "instance of the device", mostInstance),
		Name: cell("objectname"), Instance: number("objectinstance", "instance of the object", mostInstance),
		Description: cell("description"), Default: cell("presentvaluedefault"), Low: limit("minpresentvalue"),
		High: limit("maxpresentvalue"), Settable: yes("settable"), Reports: yes("supportscov"),
		Address: cell("vendorspecificaddress"), Unit: NoUnits}
	t, ok := TypeCalled(cell("objecttype"))
	if row.Type = t; !ok && why == "" {
		why = fmt.Sprintf("there is no type of object %q", cell("objecttype"))
	}
	if row.Name == "" && why == "" {
		why = "the object has no name"
	}
	if text := cell("statetextreference"); text != "" {
		row.Texts, _ = strconv.Atoi(text) // what is none is no reference
	}
	if text := cell("unitcode"); text != "" {
		u, ok := UnitCalled(text)
		if row.Unit = u; !ok && why == "" {
			why = fmt.Sprintf("there is no unit %q", text)
		}
	}
	return row, why
}

// Append appends the list as text in layout 2, with semicolons.
func (x *Exchange) Append(dst []byte) ([]byte, error) {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.Comma = ';'
	rows := [][]string{{"# Engineering-Data-Exchange"}, {"PROJECT_NAME", x.Project},
		{"VERSION_OF_REFERENCEFILE", x.Version},
		{"TIMESTAMP_OF_LAST_CHANGE", x.Changed}, {"AUTHOR_OF_LAST_CHANGE", x.Author}, {"VERSION_OF_LAYOUT", "2.3"},
		{"#mandatory", "mandatory", "mandatory", "mandatory", "mandatory", "optional", "optional", "optional",
			"optional", "optional", "optional",
			"optional", "optional", "optional", "optional", "optional", "optional"},
		{"# keyname", "device obj.-instance", "object-name", "object-type", "object-instance", "description",
			"present-value-default",
			"min-present-value", "max-present-value", "settable", "supports COV", "hi-limit", "low-limit",
			"state-text-reference", "unit-code",
			"vendor-specific-address", "notification-class"}}
	flag := map[bool]string{true: "Y", false: "N"}
	limit := func(f *float64) string {
		if f == nil {
			return ""
		}
		return strconv.FormatFloat(*f, 'g', -1, 64)
	}
	for i := range x.Rows {
		r := &x.Rows[i]
		unit, texts := "", ""
		if r.Unit != NoUnits {
			unit = strconv.FormatUint(uint64(r.Unit), 10)
		}
		if r.Texts > 0 {
			texts = strconv.Itoa(r.Texts)
		}
		rows = append(rows, []string{r.Key, strconv.FormatUint(uint64(r.Device), 10), r.Name, strconv.Itoa(int(r.Type)),
			strconv.FormatUint(uint64(r.Instance), 10), r.Description, r.Default, limit(r.Low), limit(r.High),
			flag[r.Settable], flag[r.Reports],
			"", "", texts, unit, r.Address, ""})
	}
	if err := w.WriteAll(rows); err != nil {
		return dst, err
	}
	return append(dst, b.Bytes()...), nil
}
