package api

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"net/http"
	"strings"
	"testing"

	family "ferry/internal/core/family/modbus"

	"ferry/internal/core/finding"
	"ferry/internal/core/layout"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/files"
)

// apply sends a fix as the browser does.
func (c *client) apply(device string, fix finding.Fix, points *PointsView) int {
	c.t.Helper()
	r := CellsRequest{What: fix.Title}
	for _, cell := range fix.Cells {
		edit := CellEdit{Point: cell.Point, Column: regmap.Column(cell.Column), Text: cell.Will}
		for _, row := range points.Rows {
			if row.ID == cell.Point {
				edit.Base = row.Version
			}
		}
		r.Cells = append(r.Cells, edit)
	}
	var answer map[string]any
	return c.call("POST", "/api/devices/"+device+"/cells", r, &answer)
}

// TestFathomOverTheInterface: a window of the live device, a reading, and the
// explanation taken into the map with its order and its shift.
func TestFathomOverTheInterface(t *testing.T) {
	c := listening(t)
	var w WindowView
	if code := c.call("POST", "/api/devices/ph21/window", WindowRequest{Area: "ir", Start: 0, Count: 20, At: 1},
		&w); code != 200 || len(w.Hex) != 8 || w.Address != "30001" {
		t.Fatalf("%d, %+v", code, w)
	}
	var points PointsView
	c.call("GET", "/api/devices/ph21/points", nil, &points)
	var answer FathomAnswer
	request := FathomRequest{Device: "ph21", Point: "ph21-01", Area: "ir", Start: w.Start,
		Moments: []string{strings.Join(w.Hex, " ")}, Readings: []FathomReading{
			{Shows: "7.4", Within: 0.3}}}
	if code := c.call("POST", "/api/fathom", request, &answer); code != 200 ||
		!strings.Contains(answer.Ask, "more digits") {
		t.Errorf("one register off or two words swapped cannot be told apart so far: %d, %+v", code, answer)
	}
	// The display of the maintenance screen shows more digits.
	digits := func(low, high uint16) string {
		return fmt.Sprintf("%.4f", math.Float32frombits(uint32(high)<<16|uint32(low)))
	}
	request.Readings = []FathomReading{{Shows: digits(w.Words[0], w.Words[1])},
		{Shows: digits(w.Words[2], w.Words[3]), Point: "ph21-02"}}
	if code := c.call("POST", "/api/fathom", request, &answer); code != 200 || len(answer.Candidates) == 0 {
		t.Fatalf("%d, %+v", code, answer)
	}
	best := answer.Candidates[0]
	if best.Address != "30001" || best.Type != "float32" || best.Order != "CDAB" || len(best.Fixes) != 2 ||
		!strings.Contains(best.Fixes[1].Title, "move all 5 points of the input registers by -1") {
		t.Fatalf("%+v", best)
	}
	if code := c.apply("ph21", best.Fixes[1], &points); code != 200 {
		t.Fatalf("applied: %d", code)
	}
	c.call("GET", "/api/devices/ph21/points", nil, &points)
	for i, want := range []string{"30001", "30003", "30005", "30006", "30007"} {
		if got := points.Rows[i].Cells[1]; got != want {
			t.Errorf("point %d is at %s, want %s", i, got, want)
		}
	}
	var edges EdgesView
	if code := c.call("POST", "/api/devices/ph21/edges", nil, &edges); code != 200 || len(edges.Findings) != 0 ||
		len(edges.Edges) == 0 {
		t.Errorf("the edges after that: %d, %+v", code, edges)
	}
	var problem map[string]any
	request.Moments = []string{"zz"}
	if code := c.call("POST", "/api/fathom", request, &problem); code != 422 || problem["code"] != "bad-words" {
		t.Errorf("no words: %d, %v", code, problem)
	}
	// The order of one float for all that share it.
	c.call("GET", "/api/devices/do11/points", nil, &points)
	c.call("POST", "/api/fathom", FathomRequest{Device: "do11", Point: "do11-01", Area: "hr",
		Moments: []string{"4148 9F3A 0001"}, Readings: []FathomReading{{Shows: "12.54"}}}, &answer)
	if best := answer.Candidates[0]; best.Order != "ABCD" || len(best.Fixes) != 2 || len(best.Fixes[1].Cells) != 8 {
		t.Errorf("%+v", best)
	}
}

// TestPartialPoints: a window that has a map is sent what changed, and all of
// it when points came or went.
func TestPartialPoints(t *testing.T) {
	c := listening(t)
	var whole, part PointsView
	c.call("GET", "/api/devices/skid/points", nil, &whole)
	news := func() PointsView {
		var v PointsView
		c.call("GET", "/api/devices/skid/points?since="+json.Number(jsonOf(whole.Seq)).String()+"&count="+
			jsonOf(len(whole.Rows)), nil, &v)
		return v
	}
	if part = news(); !part.Partial || len(part.Rows) != 0 || part.Count != 6 {
		t.Errorf("nothing changed: %+v", part)
	}
	var step EditAnswer
	c.call("POST", "/api/devices/skid/cells",
		CellsRequest{Cells: []CellEdit{{whole.Rows[2].ID, regmap.Unit, "kPa", whole.Rows[2].Version}}}, &step)
	if part = news(); !part.Partial || len(part.Rows) != 1 || part.Rows[0].Cells[6] != "kPa" {
		t.Errorf("one changed: %+v", part)
	}
	c.call("POST", "/api/edit", map[string]any{"what": "removed",
		"edits": []map[string]any{{"kind": "point", "id": whole.Rows[0].ID, "parent": "skid",
			"base": whole.Rows[0].Version, "after": nil}}}, &step)
	if part = news(); part.Partial || len(part.Rows) != 5 {
		t.Errorf("one is gone: %+v", part)
	}
}

func jsonOf(v any) string {
	data, _ := json.Marshal(v) // numbers always encode
	return string(data)
}

// TestSheetsOverTheInterface: placing, changing, departing, returning, keeping.
func TestSheetsOverTheInterface(t *testing.T) {
	c := listening(t)
	var sheets SheetsView
	c.call("GET", "/api/datasheets", nil, &sheets)
	if len(sheets.Datasheets) < 12 || sheets.Datasheets[0].Shipped || !sheets.Datasheets[2].Shipped ||
		// two are of the demo
		len(sheets.Rules) != 3 {
		t.Fatalf("%d datasheets", len(sheets.Datasheets))
	}
	var step EditAnswer
	var problem map[string]any
	place := PlaceRequest{Datasheet: "shelf-heat-pump-hp4",
		On: []PlaceTarget{{Device: "gate", Prefix: "HP-", Shift: 300}, {Device: "skid", Shift: 500}}}
	if code := c.call("POST", "/api/datasheets/place", place, &step); code != 200 ||
		step.What != "placed Heat pump HP-4 on 2 devices" {
		t.Fatalf("placed: %d, %+v", code, step)
	}
	if code := c.call("POST", "/api/datasheets/place", PlaceRequest{Datasheet: "gone", On: place.On},
		&problem); code != 410 {
		t.Errorf("what is gone: %d, %v", code, problem)
	}
	if code := c.call("POST", "/api/datasheets/place",
		PlaceRequest{Datasheet: "shelf-heat-pump-hp4", On: []PlaceTarget{{Device: "gate", Shift: 65536}}},
		&problem); code != 422 || problem["code"] != "cannot-place" {
		t.Errorf("too far: %d, %v", code, problem)
	}
	c.call("GET", "/api/datasheets", nil, &sheets)
	at := func() SheetView {
		for _, d := range sheets.Datasheets {
			if d.ID == "shelf-heat-pump-hp4" {
				return d
			}
		}
		t.Fatal("the datasheet is not there")
		return SheetView{}
	}
	sheet := at()
	if sheet.Shipped || len(sheets.Standings) != 4+6 || // six are of the meters
		len(sheets.Standings[0].Departures) != 0 {
		t.Fatalf("%+v", sheets.Standings)
	}
	change := SheetCellsRequest{Base: sheets.Versions[sheet.ID],
		Cells: []SheetCell{{sheet.Rows[0].ID, regmap.Unit, "K"}, {sheet.Rows[1].ID, "useful", "no"}},
		Add:   []string{"Hours"}}
	if code := c.call("POST", "/api/datasheets/"+sheet.ID+"/cells", change, &step); code != 200 {
		t.Fatalf("changed: %d", code)
	}
	if code := c.call("POST", "/api/datasheets/"+sheet.ID+"/cells", change, &problem); code != 409 {
		t.Errorf("from an old version: %d, %v", code, problem)
	}
	var points PointsView
	c.call("GET", "/api/devices/gate/points", nil, &points)
	names := map[string]string{}
	for _, row := range points.Rows {
		names[row.Cells[0]] = row.Cells[6]
	}
	if names["HP-SupplyTemp"] != "K" || names["HP-Hours"] != "" {
		t.Errorf("the device has %v", names)
	}
	if _, still := names["HP-ReturnTemp"]; still {
		t.Error("a point that is no longer useful is still there")
	}
	// A cell departs and is brought back.
	row := points.Rows[7]
	c.call("POST", "/api/devices/gate/cells",
		CellsRequest{Cells: []CellEdit{{row.ID, regmap.Pace, "7 s", row.Version}}}, &step)
	c.call("GET", "/api/datasheets", nil, &sheets)
	var departed []string
	placement := ""
	for _, s := range sheets.Standings {
		for _, d := range s.Departures {
			departed = append(departed, d.Name+" "+d.Is+" "+d.Should)
			placement = s.Placement.ID
		}
	}
	if strings.Join(departed, "|") != "HP-SupplyTemp 7 s 1 s" {
		t.Errorf("departed: %v", departed)
	}
	if code := c.call("POST", "/api/devices/gate/return", ReturnRequest{Placement: placement}, &step); code != 200 {
		t.Errorf("back: %d", code)
	}
	// A map becomes a datasheet, which its device then follows.
	if code := c.call("POST", "/api/datasheets/keep", KeepRequest{Device: "ioa", Name: "RIO-16 as found"},
		&step); code != 200 {
		t.Errorf("kept: %d", code)
	}
	c.call("GET", "/api/datasheets", nil, &sheets)
	if s := sheets.Standings[0]; s.Device != "ioa" || s.Points != 11 || len(s.Departures) != 0 {
		t.Errorf("the device of the datasheet: %+v", s)
	}
}

func TestStructuresOverTheInterface(t *testing.T) {
	c := listening(t)
	var step EditAnswer
	var problem map[string]any
	tank := site.Structure{ID: "tank", Name: "Tank",
		Members: []site.Member{{Name: "Level", Type: value.TypeFloat32},
			{Name: "Open", Type: value.TypeBool, Count: 3, First: 1}}}
	if code := c.call("POST", "/api/structures", StructureRequest{0, tank}, &step); code != 200 {
		t.Fatalf("kept: %d", code)
	}
	loop := site.Structure{ID: "loop", Name: "Loop", Members: []site.Member{{Name: "Self", Structure: "loop"}}}
	if code := c.call("POST", "/api/structures", StructureRequest{0, loop}, &problem); code != 422 ||
		!strings.Contains(problem["sentence"].(string), "contains itself") {
		t.Errorf("a loop: %d, %v", code, problem)
	}
	c.call("POST", "/api/datasheets/place",
		PlaceRequest{Structure: "tank",
			On: []PlaceTarget{{Device: "skid", Prefix: "T.", Start: "40101", Rule: layout.Registers, Pace: "2 s"}}},
		&step)
	if code := c.call("POST", "/api/datasheets/place",
		PlaceRequest{Structure: "tank",
			On: []PlaceTarget{{Device: "skid", Start: "40101.3", Rule: layout.Words, Pace: "2 s"}}},
		&problem); code != 422 {
		t.Errorf("in the middle of a register: %d", code)
	}
	// A member more, and everything behind it moves.
	tank.Members = append([]site.Member{{Name: "Fish", Type: value.TypeUint32}}, tank.Members...)
	if code := c.call("POST", "/api/structures", StructureRequest{0, tank}, &problem); code != 409 {
		t.Errorf("from an old version: %d", code)
	}
	var sheets SheetsView
	c.call("GET", "/api/datasheets", nil, &sheets)
	c.call("POST", "/api/structures", StructureRequest{sheets.Versions["tank"], tank}, &step)
	var points PointsView
	c.call("GET", "/api/devices/skid/points", nil, &points)
	var got []string
	for _, row := range points.Rows[6:] {
		got = append(got, row.Cells[0]+" "+row.Cells[1])
	}
	if strings.Join(got, "|") != "T.Level 40103|T.Open[1] 40105.0|T.Open[2] 40105.1|T.Open[3] 40105.2|T.Fish 40101" {
		t.Errorf("moved to %v", got)
	}
	c.call("GET", "/api/datasheets", nil, &sheets)
	if len(sheets.Structures) != 6 || len(sheets.Structures[5].Laid) != 3 || sheets.Structures[5].Laid[0].Bytes != 10 {
		t.Errorf("%+v", sheets.Structures)
	}
}

func TestBulkOverTheInterface(t *testing.T) {
	c := listening(t)
	var answer BulkAnswer
	var problem map[string]any
	all := []string{"ioa-08", "ioa-09", "ioa-10"}
	dry := BulkRequest{Action: "fill", Points: all, Columns: []regmap.Column{regmap.Name, regmap.Address}, Step: 10,
		Dry: true}
	if code := c.call("POST", "/api/devices/ioa/bulk", dry, &answer); code != 200 || answer.Count != 2 ||
		answer.Seq != 0 {
		t.Errorf("a dry run: %d, %+v", code, answer)
	}
	dry.Dry = false
	c.call("POST", "/api/devices/ioa/bulk", dry, &answer)
	var points PointsView
	c.call("GET", "/api/devices/ioa/points", nil, &points)
	if points.Rows[9].Cells[1] != "30021" || answer.Seq == 0 {
		t.Errorf("filled: %+v, %+v", points.Rows[9], answer)
	}
	for _, bad := range []BulkRequest{{Action: "fill", Points: all[:1]}, {Action: "explode", Points: all},
		{Action: "replace", Points: all}, {Action: "duplicate", Points: all, Times: 1, Step: 70000},
		{Action: "replace", Points: all, Columns: []regmap.Column{regmap.Type},
			Search: regmap.Search{Find: "int16", With: "banana"}}} {
		if code := c.call("POST", "/api/devices/ioa/bulk", bad, &problem); code != 422 || problem["sentence"] == "" {
			t.Errorf("%+v: %d, %v", bad, code, problem)
		}
	}
	if code := c.call("POST", "/api/devices/ioa/bulk", BulkRequest{Action: "fill", Points: []string{"gone"}},
		&problem); code != 410 {
		t.Errorf("a point that is gone: %d", code)
	}
}

// TestHandOver: every format of one map and of the whole site can be fetched,
// and what can be read back has every point.
func TestHandOver(t *testing.T) {
	c := listening(t)
	fetch := func(path string) (int, []byte) {
		response, err := http.Get(c.url + path)
		if err != nil {
			t.Fatal(err)
		}
		defer response.Body.Close()
		body, err := io.ReadAll(response.Body)
		if err != nil {
			t.Fatal(err)
		}
		return response.StatusCode, body
	}
	for path, begins := range map[string]string{
		"/api/devices/feeder1/map.csv": "name,", "/api/devices/feeder1/map.xlsx": "PK",
		"/api/devices/feeder1/map.json": "{", "/api/devices/feeder1/map.xml": "<?xml",
		"/api/devices/feeder1/map.html": "<!doctype", "/api/devices/feeder1/map.pdf": "%PDF",
		"/api/file/maps.csv": "device,name,", "/api/file/maps.xlsx": "PK", "/api/file/maps.xml": "<?xml",
		"/api/file/maps.html": "<!doctype", "/api/file/maps.pdf": "%PDF",
	} {
		if code, body := fetch(path); code != 200 || !bytes.HasPrefix(body, []byte(begins)) {
			t.Errorf("%s: %d, %d octets", path, code, len(body))
		}
	}
	for path, want := range map[string]int{"/api/devices/feeder1/map.doc": 404, "/api/file/maps.json": 404,
		"/api/devices/gone/map.csv": 410} {
		if code, _ := fetch(path); code != want {
			t.Errorf("%s: %d, want %d", path, code, want)
		}
	}
	_, body := fetch("/api/file/maps.xlsx")
	_, sheets, _, err := files.ReadWorkbook(body, "", family.Scheme)
	if err != nil || len(sheets) != 41 {
		t.Errorf("sheets %v, %v", sheets, err)
	}
}

// TestIntakeOfDocuments: a JSON map and an IEC 61131-10 document come in as
// files; structures come with them; a second time nothing is new.
func TestIntakeOfDocuments(t *testing.T) {
	c := listening(t)
	doc := `<Project><Types><GlobalNamespace><DataTypeDecl name="Pump"><UserDefinedTypeSpec type="StructTypeSpec"><Member name="Run"><Type><TypeName>BOOL</TypeName></Type></Member><Member name="Speed"><Type><TypeName>REAL</TypeName></Type></Member></UserDefinedTypeSpec></DataTypeDecl></GlobalNamespace></Types>
<Instances><Configuration name="c"><Resource name="r" resourceTypeName="x"><GlobalVars><Variable name="P1"><Type><TypeName>Pump</TypeName></Type><Address address="%MW100"/></Variable><Variable name="Level"><Type><TypeName>INT</TypeName></Type><Address address="%IW5"/></Variable></GlobalVars></Resource></Configuration></Instances></Project>`
	var answer IntakeAnswer
	if code := c.call("POST", "/api/devices/lss/intake", IntakeRequest{File: []byte(doc), Commit: true},
		&answer); code != 200 || answer.Added != 3 || answer.Format != "iec61131-10" {
		t.Fatalf("%d, %+v", code, answer)
	}
	var sheets SheetsView
	c.call("GET", "/api/datasheets", nil, &sheets)
	if len(sheets.Structures) != 6 || sheets.Structures[5].Name != "Pump" {
		t.Errorf("structures %+v", sheets.Structures)
	}
	if c.call("POST", "/api/devices/lss/intake", IntakeRequest{File: []byte(doc)}, &answer); answer.Same != 3 ||
		answer.Added != 0 {
		t.Errorf("a second time: %+v", answer)
	}
	list := `[{"tag":"Level","register":"30006","type":"INT"},{"tag":"Extra","register":"30010","type":"REAL"}]`
	if c.call("POST", "/api/devices/lss/intake", IntakeRequest{Text: list, Commit: true, Replace: true},
		&answer); answer.Format != "json" || answer.Added != 1 || answer.RemovedCount != 2 {
		t.Errorf("JSON that replaces: %+v", answer)
	}
	var points PointsView
	c.call("GET", "/api/devices/lss/points", nil, &points)
	if len(points.Rows) != 2 {
		t.Errorf("left: %+v", points.Rows)
	}
	var problem map[string]any
	for _, bad := range [][]byte{[]byte("<html/>"), []byte("%PDF-1.7"), []byte("PK\x03\x04broken"),
		[]byte(`{"format":"recipe"}`), []byte("\xD0\xCF\x11\xE0")} {
		if code := c.call("POST", "/api/devices/lss/intake", IntakeRequest{File: bad}, &problem); code != 422 ||
			problem["do"] == "" {
			t.Errorf("%q: %d, %v", bad, code, problem)
		}
	}
}
