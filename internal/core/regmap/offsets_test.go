package regmap

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"ferry/internal/core/family/blocktcp"
	"ferry/internal/core/family/modbus"
)

// block7 is a list of members with their offsets, as controllers export it.
const block7 = `Name,Data type,Offset
Speed,REAL,0.0
Running,BOOL,4.0
Fault,BOOL,4.1
Code,BYTE,5.0
Starts,DINT,6.0
Mode,INT,10.0
Pump.Level,REAL,12.0
Pump.Open,BOOL,16.0
Pump.Count,INT,18.0
Last,INT,20.0
`

func rowsOf(text string) (rows []Row) {
	for i, line := range strings.Split(strings.TrimSpace(text), "\n") {
		rows = append(rows, Row{Line: i + 1, Cells: strings.Split(line, ",")})
	}
	return rows
}

// TestOffsets: a list that gives offsets in a block asks in which, reads each at
// its byte and bit, and is compared with the layout of its types.
func TestOffsets(t *testing.T) {
	for _, c := range []struct {
		name, old, new string
		want           []string // displaced, as "line is should"
	}{
		{"as laid out", "", "", nil},
		{"a member put in before",
			"Mode,INT,10.0\nPump.Level,REAL,12.0\nPump.Open,BOOL,16.0\nPump.Count,INT,18.0\nLast,INT,20.0",
			"Mode,INT,14.0\nPump.Level,REAL,16.0\nPump.Open,BOOL,20.0\nPump.Count,INT,22.0\nLast,INT,24.0", []string{"7 14 10"}},
		{"a type that was made wider", "Code,BYTE", "Code,WORD", []string{"5 5 6", "6 6 8"}},
		{"a bit that was taken out", "Fault,BOOL,4.1", "Fault,BOOL,4.2", []string{"4 4.2 4.1"}},
		{"a structure between", "Last,INT,20.0", "Last,BYTE,20.0", nil},
	} {
		listing := Recognise(blocktcp.Scheme, rowsOf(strings.Replace(block7, c.old, c.new, 1)), Reading{}, nil)
		if !listing.InBlock || len(listing.Questions) != 1 || listing.Questions[0].Key != asksArea {
			t.Fatalf("%s: in a block %v, asked is %+v", c.name, listing.InBlock, listing.Questions)
		}
		listing.Reading.Area = "db7"
		listing.Settle(blocktcp.Scheme)
		points, lines, rejected := listing.Points(blocktcp.Scheme)
		if len(points) != 10 || len(rejected) > 0 || len(listing.Questions) > 0 {
			t.Fatalf("%s: %d points, %+v, %+v", c.name, len(points), rejected, listing.Questions)
		}
		if at := points[1].Address.String() + " " + points[0].Address.String(); at != "db7:4.0 db7:0" {
			t.Errorf("%s: the first lie at %s", c.name, at)
		}
		var got []string
		for _, d := range CompareOffsets(points, lines) {
			got = append(got, fmt.Sprintf("%d %s %s", d.Line, d.Is, d.Should))
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%s: displaced are %v, want %v", c.name, got, c.want)
		}
	}
}

// TestNoOffsets: a list of some members only is compared with nothing, and lists
// of other families are read as before.
func TestNoOffsets(t *testing.T) {
	some := "Name,Data type,Offset\nSpeed,REAL,0.0\nMode,INT,10.0\nOpen,BOOL,36.0\nLast,INT,120.0\n"
	listing := Recognise(blocktcp.Scheme, rowsOf(some), Reading{Area: "db7"}, nil)
	points, lines, _ := listing.Points(blocktcp.Scheme)
	if got := CompareOffsets(points, lines); len(points) != 4 || got != nil {
		t.Errorf("of %d points displaced are %+v", len(points), got)
	}
	for name, listing := range map[string]Listing{
		"places with their block": Recognise(blocktcp.Scheme, rowsOf("Name,Address,Type\nA,db7:0,REAL\nB,db7:4.0,BOOL\n"),
			Reading{}, nil),
		"offsets that do not count up": Recognise(blocktcp.Scheme, rowsOf("Name,Address,Offset\nA,db7:0,4.0\nB,db7:8,0.0\n"),
			Reading{}, nil),
		"registers": Recognise(modbus.Scheme, rowsOf(block7), Reading{}, nil),
	} {
		if listing.InBlock {
			t.Errorf("%s are taken for offsets in a block", name)
		}
	}
}
