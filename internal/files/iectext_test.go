package files

import (
	"fmt"
	"strings"
	"testing"

	"ferry/internal/core/family/blocktcp"
	family "ferry/internal/core/family/modbus"
	"ferry/internal/core/regmap"
)

const hall = `
(* Filtration hall *)
TYPE
  Drum : STRUCT
    Speed : REAL;  // rpm
    Run, Fault : BOOL;
    Backwashes : DINT := 16#FF;
    Label : STRING[11];
  END_STRUCT;
  Mode : (Off, Filtering, Backwash := 5) BYTE;
  Percent : INT (0..100) := 50;
  Hall : STRUCT
    Drums : ARRAY [1..Count] OF drum;
    State : Mode;
    Sand : STRUCT
      Inlet : BOOL; (* inlet valve *)
      Travel : Percent;
    END_STRUCT;
  END_STRUCT
END_TYPE
VAR_GLOBAL RETAIN
  FH AT %DB7.DBX0.0 : Hall;
  Level AT %IW4 : INT;
  Spare, Total : UDINT;
END_VAR
VAR_GLOBAL CONSTANT Count : INT := 2; END_VAR
PROGRAM Main VAR i : INT; Door AT %IX0.3 : BOOL; END_VAR i := i + 1; END_PROGRAM
`

// readOut reads declarations and prints each point with its address and type,
// and what could not be read.
func readOut(t *testing.T, text, begin string) string {
	t.Helper()
	source, err := ReadSource([]byte(text), Within{Begin: begin}, blocktcp.Scheme)
	if err != nil {
		t.Fatal(err)
	}
	listing := regmap.Recognise(blocktcp.Scheme, source.Rows, regmap.Reading{}, nil)
	points, _, _ := listing.Points(blocktcp.Scheme)
	var lines []string
	for i := range points {
		lines = append(lines, fmt.Sprintf("%s %s %s", points[i].Name, points[i].Address, regmap.PrintType(&points[i])))
	}
	for _, f := range source.Faults {
		lines = append(lines, fmt.Sprintf("line %d: %s", f.Line, f.Reason))
	}
	return strings.Join(lines, "\n")
}

// TestDeclarations: every point lies where the fixed layout puts it, whatever
// the order in which types are declared.
func TestDeclarations(t *testing.T) {
	want := `FH.Drums[1].Speed db7:0 float32
FH.Drums[1].Run db7:4.0 bool
FH.Drums[1].Fault db7:4.1 bool
FH.Drums[1].Backwashes db7:6 int32
FH.Drums[1].Label db7:10 text 11 counted
FH.Drums[2].Speed db7:24 float32
FH.Drums[2].Run db7:28.0 bool
FH.Drums[2].Fault db7:28.1 bool
FH.Drums[2].Backwashes db7:30 int32
FH.Drums[2].Label db7:34 text 11 counted
FH.State db7:48 enum
FH.Sand.Inlet db7:50.0 bool
FH.Sand.Travel db7:52 int16
Level i4 int16
Door i0.3 bool
Spare db12:0 uint32
Total db12:4 uint32`
	if got := readOut(t, hall, "db12:0"); got != want {
		t.Errorf("read:\n%s", got)
	}
}

// TestBrokenDeclarations: what cannot be read is told with its line, and nothing
// behind it gets a place that it may not have.
func TestBrokenDeclarations(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"unknown type", "TYPE A : STRUCT x : INT; y : Nowhere; z : INT; END_STRUCT; END_TYPE\nVAR_GLOBAL\n a AT " +
			"%DB1.DBX0.0 : A;\n b AT %DB2.DBW0 : INT;\nEND_VAR",
			"b db2:0 int16\nline 1: the type Nowhere of A.y is declared nowhere\n" +
				"line 3: a is left out: a part of its type could not be read"},
		{"unreadable member", "TYPE A : STRUCT x : INT; y : ARRAY [1..Q] OF INT; z : INT; END_STRUCT; END_TYPE " +
			"VAR_GLOBAL a AT %DB1.DBX0.0 : A; END_VAR",
			`line 1: "Q" is no whole number, and no constant that is declared before` + "\n" +
				"line 1: a is left out: a part of its type could not be read"},
		{"cycle", "TYPE A : STRUCT b : B; END_STRUCT; B : STRUCT a : A; END_STRUCT; END_TYPE VAR_GLOBAL a AT " +
			"%DB1.DBX0.0 : A; b AT %DB2.DBW0 : INT; END_VAR",
			"b db2:0 int16\nline 1: a cannot be laid out: the structure A contains itself"},
		{"missing end of a structure",
			"TYPE A : STRUCT x : INT; END_TYPE VAR_GLOBAL a AT %DB1.DBX0.0 : A; b AT %DB2.DBW0 : INT; END_VAR",
			"b db2:0 int16\nline 1: END_STRUCT of A is missing before END_TYPE\n" +
				"line 1: a is left out: a part of its type could not be read"},
		{"missing end", "VAR_GLOBAL b AT %DB2.DBW0 : INT;", "b db2:0 int16\nline 1: END_VAR is missing"},
		{"missing semicolon",
			"VAR_GLOBAL\n a AT %DB2.DBW0 : INT\n b AT %DB2.DBW2 : INT;\n c AT %DB2.DBW4 : INT;\nEND_VAR",
			"a db2:0 int16\nb db2:2 int16\nc db2:4 int16\nline 3: \"b\" stands where \";\" of a is expected"},
		{"two dimensions", "VAR_GLOBAL a AT %DB2.DBW0 : ARRAY [1..2, 1..3] OF INT; b AT %DB3.DBW0 : INT; END_VAR",
			"a[1,1] db2:0 int16\na[1,2] db2:2 int16\na[1,3] db2:4 int16\na[2,1] db2:6 int16\na[2,2] db2:8 int16\n" +
				"a[2,3] db2:10 int16\nb db3:0 int16"},
		{"five dimensions", "VAR_GLOBAL a AT %DB2.DBW0 : ARRAY [1..2, 1..2, 1..2, 1..2, 1..2] OF INT; b AT %DB3.DBW0 : " +
			"INT; END_VAR", "b db3:0 int16\nline 1: the array a has 5 dimensions: up to 4 are read"},
		{"too many elements", "VAR_GLOBAL a AT %DB2.DBW0 : ARRAY [1..50000, 1..50000] OF INT; b AT %DB3.DBW0 : INT; " +
			"END_VAR", "b db3:0 int16\nline 1: a cannot be laid out: a has 50000 elements or more: give 1 to 100000, or " +
			"none for a single value"},
		{"behind what is not placed", "VAR_GLOBAL a : INT; b : Nowhere; c : INT; END_VAR",
			"a db12:0 int16\nline 1: the type Nowhere of b is declared nowhere\nline 1: b cannot be laid out: b has " +
				"no width; it and 1 variables behind it have no address"},
		{"twice", "TYPE A : INT; a : REAL; END_TYPE VAR_GLOBAL x AT %DB2.DBW0 : A; END_VAR",
			"x db2:0 int16\nline 1: the type A is declared twice"},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := readOut(t, c.text, "db12:0"); got != c.want {
				t.Errorf("read:\n%s\nwant:\n%s", got, c.want)
			}
		})
	}
}

// TestDeclaredOrTable: a table that speaks of types is no text of declarations.
func TestDeclaredOrTable(t *testing.T) {
	for text, want := range map[string]bool{hall: true, "VAR_GLOBAL a : INT; END_VAR": true,
		"Name;Type;Address\nLevel;STRUCT;40001\n": false, "name,type\nEND_TYPE,int16": false, "": false} {
		if got := declared([]byte(text)); got != want {
			t.Errorf("%.20q is taken for declarations: %v", text, got)
		}
	}
}

func FuzzDeclarations(f *testing.F) {
	f.Add(hall)
	f.Add("TYPE A : STRUCT b : ARRAY [0..3] OF A; END_STRUCT; END_TYPE VAR_GLOBAL x AT %MB0 : A; END_VAR")
	f.Add("TYPE A : B; B : A; END_TYPE VAR_GLOBAL x : A; END_VAR (* open")
	f.Add("VAR_GLOBAL s AT %DB1.DBX0.0 : STRING[254]; w : ARRAY[-5..5] OF BOOL := [3(TRUE)]; END_VAR")
	f.Fuzz(func(t *testing.T, text string) {
		doc, faults, err := readDeclared([]byte(text))
		if err != nil {
			return
		}
		for _, begin := range []string{"", "db3:0"} {
			if source, err := takeDeclared("iec61131-3", doc, faults, blocktcp.Scheme, begin); err == nil {
				for _, row := range source.Rows {
					if len(row.Cells) != 5 {
						t.Fatalf("a row of %d cells", len(row.Cells))
					}
				}
			}
		}
		_, _ = takeDeclared("iec61131-3", doc, faults, family.Scheme, "hr10")
	})
}
