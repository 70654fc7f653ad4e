package bacnet

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Exchange is a list of objects for whoever engineers a building's network, as a table of text: the
// engineering data exchange of the interest group, in its layouts from 1 to 2.
type Exchange struct {
	Project, Version, Author, Changed, Layout string
	Rows                                      []ExchangeRow
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
var columnsOf = []string{"keyname", "deviceobjinstance", "objectname", "objecttype", "objectinstance", "description", "presentvaluedefault",
	"minpresentvalue", "maxpresentvalue", "settable", "supportscov", "hilimit", "lowlimit", "statetextreference", "unitcode",
	"vendorspecificaddress", "notificationclass"}

// columnKey is a heading without what lists write in one way or another.
func columnKey(text string) string {
	return strings.NewReplacer(" ", "", "-", "", "_", "", ".", "", "#", "", "/", "").Replace(strings.ToLower(strings.TrimSpace(text)))
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

// ReadExchange reads a list. Lines that are no objects are told with why not.
func ReadExchange(data []byte) (x Exchange, wrong []string, err error) {
	if len(data) > mostExchange {
		return x, nil, fmt.Errorf("the list has %d MB: up to %d are read", len(data)>>20, mostExchange>>20)
	}
	text := string(bytes.TrimPrefix(data, []byte("\xEF\xBB\xBF")))
	if !utf8.ValidString(text) { // as older programs write
		runes := make([]rune, 0, len(text))
		for _, b := range []byte(text) {
			runes = append(runes, rune(b))
		}
		text = string(runes)
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
	row = ExchangeRow{Key: cell("keyname"), Device: number("deviceobjinstance", "instance of the device", mostInstance), Name: cell("objectname"),
		Instance: number("objectinstance", "instance of the object", mostInstance), Description: cell("description"), Default: cell("presentvaluedefault"),
		Low: limit("minpresentvalue"), High: limit("maxpresentvalue"), Settable: yes("settable"), Reports: yes("supportscov"),
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
	rows := [][]string{{"# Engineering-Data-Exchange"}, {"PROJECT_NAME", x.Project}, {"VERSION_OF_REFERENCEFILE", x.Version},
		{"TIMESTAMP_OF_LAST_CHANGE", x.Changed}, {"AUTHOR_OF_LAST_CHANGE", x.Author}, {"VERSION_OF_LAYOUT", "2.3"},
		{"#mandatory", "mandatory", "mandatory", "mandatory", "mandatory", "optional", "optional", "optional", "optional", "optional", "optional",
			"optional", "optional", "optional", "optional", "optional", "optional"},
		{"# keyname", "device obj.-instance", "object-name", "object-type", "object-instance", "description", "present-value-default",
			"min-present-value", "max-present-value", "settable", "supports COV", "hi-limit", "low-limit", "state-text-reference", "unit-code",
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
			strconv.FormatUint(uint64(r.Instance), 10), r.Description, r.Default, limit(r.Low), limit(r.High), flag[r.Settable], flag[r.Reports],
			"", "", texts, unit, r.Address, ""})
	}
	if err := w.WriteAll(rows); err != nil {
		return dst, err
	}
	return append(dst, b.Bytes()...), nil
}
