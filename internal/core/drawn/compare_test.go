package drawn_test

import (
	"os"
	"strings"
	"testing"

	"ferry/internal/core/drawn"
	_ "ferry/internal/core/family/iec61850"
	"ferry/internal/core/protocol"
)

// TestCompare: a file that is changed differs from what it was in just that, and in nothing that it says of itself.
func TestCompare(t *testing.T) {
	data, err := os.ReadFile("../../bench/concentrator.icd")
	if err != nil {
		t.Fatal(err)
	}
	read := func(text string) protocol.Outline {
		t.Helper()
		_, by := protocol.DrawnBy([]byte(text))
		o, err := by.(protocol.Outlines).Outline([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		return o
	}
	was := string(data)
	for _, c := range []struct{ name, old, new, want string }{
		{"nothing", "", "", ""},
		{"a description counts for nothing", `desc="Pump 1 runs"`, `desc="Another"`, ""},
		{"an address", "192.0.2.95", "192.0.2.96", "SKERRY_CONC/S1/IP: address 192.0.2.95 | 192.0.2.96 | "},
		{"the name of a device alone in its file", `name="SKERRY_CONC"`, `name="SKERRY_B"`,
			"SKERRY_CONC: IED SKERRY_CONC | SKERRY_B | \n" +
				"SKERRY_CONC/S1/IP: address 192.0.2.95 |  | other\nSKERRY_CONC/S1/IP-SUBNET: address 255.255.255.0 |  | other\n" +
				"SKERRY_CONC/S1/OSI-PSEL: address 00000001 |  | other\nSKERRY_CONC/S1/OSI-SSEL: address 0001 |  | other\n" +
				"SKERRY_CONC/S1/OSI-TSEL: address 0001 |  | other\nSKERRY_CONC/S1/LD0: logical device SKERRY_CONCLD0 | SKERRY_BLD0 | "},
		{"a report", `name="urcbMeasured" rptID="urcbMeasured" datSet="dsMeasured" buffered="false" bufTime="200"`,
			`name="urcbMeasured" rptID="urcbMeasured" datSet="dsMeasured" buffered="false" bufTime="250"`,
			"SKERRY_CONC/S1/LD0/LLN0/urcbMeasured: report unbuffered · of dsMeasured · as urcbMeasured · for 4 clients · dchg gi period qchg · " +
				"gathers 200 ms · all every 10000 ms · revision 1 | unbuffered · of dsMeasured · as urcbMeasured · for 4 clients · dchg gi period qchg · " +
				"gathers 250 ms · all every 10000 ms · revision 1 | "},
		{"a member", `doName="Ind12" fc="ST"`, `doName="Ind1" fc="ST"`,
			"SKERRY_CONC/S1/LD0/LLN0/dsStatus/LD0/GGIO1.Ind12[ST]: member member |  | other\n" +
				"SKERRY_CONC/S1/LD0/LLN0/dsStatus/LD0/GGIO1.Ind1[ST]: member  | member | one"},
		{"a node, and what lies in it", `<LN lnClass="LPHD" inst="1" lnType="LPHD_1"/>`, "",
			"SKERRY_CONC/S1/LD0/LPHD1: logical node LPHD |  | other"},
	} {
		if !strings.Contains(was, c.old) {
			t.Fatalf("%s: the file has no %q", c.name, c.old)
		}
		got := drawn.Compare(read(was), read(strings.Replace(was, c.old, c.new, 1)))
		var list []string
		for _, d := range got.List {
			list = append(list, d.Path+": "+d.Kind+" "+d.One+" | "+d.Other+" | "+d.Lacks)
		}
		if text := strings.Join(list, "\n"); text != c.want || got.Count != len(got.List) || got.Alike == 0 {
			t.Errorf("%s: %d differ, %d alike\n%s", c.name, got.Count, got.Alike, text)
		}
	}
}
