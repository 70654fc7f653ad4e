package regmap_test

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	family "ferry/internal/core/family/modbus"

	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
)

// corpusTable is a table as a manual writes it, with what its author means:
//
//	# name          | of the table
//	cell | cell     | its rows
//	? key, key      | what it leaves open, and must be asked
//	~ n             | how many rows are no points
//	! n             | how many cells cannot come in
//	= name | address | type | order | scale | unit | access | limits | names
type corpusTable struct {
	name    string
	rows    []regmap.Row
	asks    string
	asides  int
	rejects int
	want    []string
}

func corpus(t testing.TB) (tables []corpusTable) {
	t.Helper()
	data, err := os.ReadFile("testdata/tables.txt")
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(string(data)) {
		line = strings.TrimRight(line, "\n")
		if name, is := strings.CutPrefix(line, "# "); is {
			tables = append(tables, corpusTable{name: name})
			continue
		}
		if line == "" {
			continue
		}
		c := &tables[len(tables)-1]
		switch rest := strings.TrimSpace(line[1:]); {
		case strings.HasPrefix(line, "? "):
			c.asks = rest
		case strings.HasPrefix(line, "~ "):
			_, err = fmt.Sscan(rest, &c.asides)
		case strings.HasPrefix(line, "! "):
			_, err = fmt.Sscan(rest, &c.rejects)
		case strings.HasPrefix(line, "= "):
			c.want = append(c.want, rest)
		default:
			cells := strings.Split(line, "|")
			for i := range cells {
				cells[i] = strings.TrimSpace(cells[i])
			}
			c.rows = append(c.rows, regmap.Row{Line: len(c.rows) + 1, Cells: cells})
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	return tables
}

// printed is a point as the corpus writes it, without what is empty at its end.
func printed(p *site.Point) string {
	cell := func(c regmap.Column) string { return regmap.Cell(family.Scheme, p, c) }
	limits := ""
	if p.Low != nil && p.High != nil {
		limits = fmt.Sprintf("%g..%g", *p.Low, *p.High)
	}
	cells := []string{p.Name, p.Address.String(), cell(regmap.Type), string(p.Order), cell(regmap.Scale), p.Unit,
		string(p.Access), limits, cell(regmap.Names)}
	for len(cells) > 0 && (cells[len(cells)-1] == "" || len(cells) == 7 && cells[6] == "r") {
		cells = cells[:len(cells)-1]
	}
	return strings.Join(cells, " | ")
}

// same compares a point with what the corpus wants of it.
func same(p *site.Point, want string) bool {
	cells := strings.Split(want, "|")
	for i := range cells {
		cells[i] = strings.TrimSpace(cells[i])
	}
	for len(cells) > 0 && (cells[len(cells)-1] == "" || len(cells) == 7 && cells[6] == "r") {
		cells = cells[:len(cells)-1]
	}
	return printed(p) == strings.Join(cells, " | ")
}

// TestCorpus: tables come in as their authors meant them, or ask.
func TestCorpus(t *testing.T) {
	tables := corpus(t)
	right, silent := 0, 0
	for _, c := range tables {
		list := regmap.Recognise(family.Scheme, c.rows, regmap.Reading{}, nil)
		points, _, rejected := list.Points(family.Scheme)
		var asks, got []string
		for _, q := range list.Questions {
			asks = append(asks, q.Key)
			for _, choice := range q.Choices {
				if choice.Example == "" || !slices.Contains(choice.Reading.Settled, q.Key) {
					t.Errorf("%s: a choice without an example: %+v", c.name, choice)
				}
			}
			if first, second := q.Choices[0].Example, q.Choices[1].Example; first == second {
				t.Errorf("%s: %q: both choices show %q", c.name, q.Asks, first)
			}
		}
		ok := strings.Join(asks, ", ") == c.asks && len(list.Asides) == c.asides && len(rejected) == c.rejects &&
			len(points) == len(c.want)
		wrong := 0
		for i := range points {
			got = append(got, "= "+printed(&points[i]))
			if i < len(c.want) && !same(&points[i], c.want[i]) {
				ok = false
				wrong++
			}
		}
		if ok {
			right++
			continue
		}
		if wrong > 0 && len(asks) == 0 && len(rejected) == 0 {
			silent++
		}
		t.Errorf("%s (%v):\n%s\nasks %q, want %q; asides %+v, want %d; rejected %+v, want %d; notes %q", c.name,
			list.Columns, strings.Join(got, "\n"), strings.Join(asks, ", "), c.asks, list.Asides, c.asides, rejected,
			c.rejects, list.Notes)
	}
	t.Logf("%d of %d tables wholly right, %d silently wrong", right, len(tables), silent)
	if len(tables) < 80 {
		t.Errorf("%d tables are too few", len(tables))
	}
}
