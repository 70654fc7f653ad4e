package e2e

import (
	"bytes"
	family "ferry/internal/core/family/modbus"
	"io"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/xuri/excelize/v2"

	"ferry/internal/core/regmap"
	"ferry/internal/files"
)

// foreignWorkbook writes somebody else's list of a flow meter's registers: a
// title, other words for everything, a wrong order, a wrong type, a row with a
// slip of the pen, and a second sheet.
func foreignWorkbook(t *testing.T) string {
	t.Helper()
	book := excelize.NewFile()
	defer book.Close()
	if err := book.SetSheetName("Sheet1", "Cover"); err != nil {
		t.Fatal(err)
	}
	if _, err := book.NewSheet("Registers"); err != nil {
		t.Fatal(err)
	}
	for i, row := range [][]any{
		{"Skerry Point Hatchery, make-up water"},
		{},
		{"Parameter", "Modbus address", "No. of registers", "Data type", "Gain", "EU", "R/W", "Poll rate", "Comment"},
		{"Flow", "30,001", 2, "FLOAT", "", "m³/h", "R", "1 s", "the instrument shows it on its own display"},
		{"Total", "30003-30004", 2, "U32", 0.1, "m³", "R", "5 s", ""},
		{"Conductivity", "3x0005", 1, "INT16U", "", "uS/cm", "RO", "5 s", ""},
		{"SerialNo", 30011, 6, "ASCII", "", "", "R", "once", ""},
		{"EmptyPipe", "1ooo1", "", "Bool", "", "", "R", "1 s", "digital input"},
	} {
		at, err := excelize.CoordinatesToCellName(1, i+1)
		if err == nil {
			err = book.SetSheetRow("Registers", at, &row)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	path := filepath.Join(t.TempDir(), "make-up water.xlsx")
	if err := book.SaveAs(path); err != nil {
		t.Fatal(err)
	}
	return path
}

// TestForeignList: a list in somebody else's spreadsheet becomes a right map,
// checked and proved against the bench, and comes out again in every format.
func TestForeignList(t *testing.T) {
	t.Parallel()
	f := start(t, "demo", t.TempDir())
	b := f.open(t, "/points/flow61")
	// The map of the demo site is cleared first, so that the list is all there is.
	b.sees("5 points")
	b.cell("flow61-01", "name")
	b.ctrl("a")
	b.ctrl(kb.Delete)
	b.sees("The map is empty")

	began := time.Now()
	b.run(chromedp.SetUploadFiles(chromedp.CSS(`input[aria-label="File with points"]`), []string{foreignWorkbook(t)}))
	b.sees("5 rows of make-up water.xlsx: 4 new")
	b.sees("row 3: Parameter, Modbus address")
	b.sees("1 row cannot come in yet")
	b.press("Bring in the good rows")
	b.sees("1 row of make-up water.xlsx: 0 new")
	b.fill("Modbus address in line 8", "10001")
	b.press("Check the corrected rows")
	b.sees("none with a problem")
	b.press("Bring in 1 row")
	b.sees("5 points")
	b.until("the dialog has closed", `!document.querySelector("[role=dialog]")`)

	// The unit has an unusual spelling: the fix is shown before it is applied.
	b.rowNamed("Conductivity")
	b.sees("An unusual spelling of a unit")
	b.press("Write µS/cm")
	b.until("the preview names both",
		`document.querySelector("[data-testid=fix-preview]")?.innerText.includes("uS/cm")`)
	b.press("Apply")
	b.until("the unit is put right",
		`[...document.querySelectorAll('[data-col="unit"]')].some(e => e.innerText === "µS/cm")`)

	// The flow reads nonsense: the order of the list is wrong. What the display
	// shows finds the right one.
	b.to("/timetable?line=plantnet")
	b.press("Start the line")
	b.to("/points/flow61")
	b.rowNamed("Flow")
	b.until("the point is read", `document.querySelector("[data-testid=words]")`)
	b.fathom("38.6", "4", "BADC")
	b.press("Use float32 BADC")
	b.press("Apply")
	b.until("the flow is right",
		`(v => v > 34 && v < 43)(parseFloat(document.querySelector("[data-testid=value]").innerText))`)
	b.rowNamed("Total")
	b.until("the point is read", `document.querySelector("[data-testid=words]")`)
	b.fathom("204518", "10", "bcd32")
	b.does(`[...document.querySelectorAll('[data-testid="fathom"] button')].find(e => e.innerText.startsWith("Use bcd32")).click()`)
	b.press("Apply")
	b.until("the total is right",
		`(v => v > 204000 && v < 206000)(parseFloat(document.querySelector("[data-testid=value]").innerText.replace(/\s/g, "")))`)
	b.until("every point is good",
		`[...document.querySelectorAll("[data-point]")].filter(e => e.querySelector('[aria-label="good"]')).length === 5`)
	took := time.Since(began)
	t.Logf("from the foreign list to the proved map: %.0f s", took.Seconds())
	if took > 2*time.Minute {
		t.Errorf("it took %s", took)
	}

	// Out again, in every format, with nothing lost.
	want := f.points(t, "/api/devices/flow61/map.csv")
	for _, format := range []string{"json", "xlsx", "xml"} {
		if got := f.points(t, "/api/devices/flow61/map."+format); got != want {
			t.Errorf("as %s it comes out as\n%s\nwant\n%s", format, got, want)
		}
	}
	for format, begins := range map[string]string{"pdf": "%PDF-", "html": "<!doctype html>"} {
		body, err := io.ReadAll(f.fetch(t, "/api/devices/flow61/map."+format).Body)
		if err != nil || !bytes.HasPrefix(body, []byte(begins)) ||
			format == "html" && !bytes.Contains(body, []byte("Conductivity")) {
			t.Errorf("%s: %d octets, %v", format, len(body), err)
		}
	}

	// The next list of that shape is read as this one was.
	b.run(chromedp.SetUploadFiles(chromedp.CSS(`input[aria-label="File with points"]`), []string{foreignWorkbook(t)}))
	b.sees("as last time")
}

// points reads a map that was handed out and prints it.
func (f *ferry) points(t testing.TB, path string) string {
	t.Helper()
	body, err := io.ReadAll(f.fetch(t, path).Body)
	if err != nil {
		t.Fatal(err)
	}
	source, err := files.ReadSource(body, files.Within{}, family.Scheme)
	if err != nil {
		t.Fatalf("%s: %v", path, err)
	}
	listing := regmap.Recognise(family.Scheme, source.Rows, regmap.Reading{}, nil)
	list, _, rejected := listing.Points(family.Scheme)
	if len(rejected) > 0 {
		t.Fatalf("%s: %+v", path, rejected)
	}
	var b strings.Builder
	for i := range list {
		for _, column := range regmap.Columns() {
			b.WriteString(regmap.Cell(family.Scheme, &list[i], column) + "|")
		}
		b.WriteString("\n")
	}
	return b.String()
}

// rowNamed opens the point of a name.
func (b *browser) rowNamed(name string) {
	b.t.Helper()
	find := `[...document.querySelectorAll('[data-col="name"]')].find(e => e.innerText === "` + name + `")`
	b.until("the row "+name, find)
	b.does(find + `.dispatchEvent(new MouseEvent("mousedown", { bubbles: true }))`)
	b.until("its inspector", `document.querySelector("[data-inspector] h2")?.innerText === "`+name+`"`)
}

// fathom gives a reading and waits for the explanation that is wanted first.
func (b *browser) fathom(shows, within, want string) {
	b.t.Helper()
	b.fill("The display shows", shows)
	b.fill("Within", within)
	b.press("Find it")
	b.until("the explanation "+want+" comes first",
		`document.querySelector("[data-testid=candidates] tbody tr")?.innerText.includes("`+want+`")`)
}

// TestOffByOne: a map that lies one register too high says so when the device
// is asked at its edges, and moves.
func TestOffByOne(t *testing.T) {
	t.Parallel()
	f := start(t, "demo", t.TempDir())
	b := f.open(t, "/points/ph21")
	b.press("More")
	b.press("Ask the device at the edges of the map")
	b.sees("The map is off by one")
	b.press("Move all 5 points down by one")
	b.press("Apply")
	b.shows("ph21-01", "address", "30001")
	b.shows("ph21-05", "address", "30007")
	b.press("Close")
	b.ctrl("z")
	b.shows("ph21-01", "address", "30002")
}

// TestManyAtOnce: filters, sorting, find and replace, counting on, copies with
// a shift, one value into many cells, and columns that are remembered.
func TestManyAtOnce(t *testing.T) {
	t.Parallel()
	f := start(t, "demo", t.TempDir())
	b := f.open(t, "/points/ioa")
	b.sees("11 points")
	b.press("Filter")
	b.fill("Filter Name", "level")
	b.until("five rows are left", `document.querySelectorAll("[data-point]").length === 5`)
	b.fill("Filter Name", "")
	b.press("Filter")
	b.does(`[...document.querySelectorAll('[role="columnheader"] button')].find(e => e.innerText.startsWith("Name")).click()`)
	b.until("sorted by name", `document.querySelector('[data-point] [data-col="name"]').innerText === "DrainValve"`)
	b.does(`[...document.querySelectorAll('[role="columnheader"] button')].find(e => e.innerText.startsWith("Name")).click()`)
	b.does(`[...document.querySelectorAll('[role="columnheader"] button')].find(e => e.innerText.startsWith("Name")).click()`)
	b.until("in their own order", `document.querySelector('[data-point] [data-col="name"]').innerText === "InletValve"`)

	b.press("Many at once")
	b.fill("Find", "Level")
	b.fill("Replace by", "Sump")
	b.sees("Change 5 cells")
	b.press("Change 5 cells")
	b.shows("ioa-08", "name", "Sump1")
	b.ctrl("z")
	b.shows("ioa-08", "name", "Level1")
	b.cell("ioa-08", "name")
	b.choose("What to do", "duplicate")
	b.fill("shift of each, units", "10")
	b.sees("Level2 at 30011")
	b.press("Add 1 point")
	b.sees("12 points")
	b.press("Close")

	b.cell("ioa-08", "unit")
	b.run(key(kb.ArrowDown, true), key(kb.ArrowDown, true))
	b.keys("pct")
	b.ctrl("\r")
	b.shows("ioa-08", "unit", "pct")
	b.press("Columns")
	b.until("the menu is open", `document.querySelector('[role="menuitemcheckbox"]')`)
	b.does(`[...document.querySelectorAll('[role="menuitemcheckbox"]')].find(e => e.innerText.includes("Offset")).click()`)
	b.until("the column is gone", `!document.querySelector('[data-col="offset"]')`)
	b.to("/points/pump1")
	b.until("and stays so",
		`document.querySelector('[data-col="scale"]') && !document.querySelector('[data-col="offset"]')`)
}

// TestDatasheets: a shipped datasheet is placed on two devices; changed, both
// follow but where one has departed; a structure is laid out and placed.
func TestDatasheets(t *testing.T) {
	t.Parallel()
	f := start(t, "demo", t.TempDir())
	b := f.open(t, "/points/datasheets/shelf-flow-meter-mf6")
	b.sees("Place it on devices")
	b.does(`[...document.querySelectorAll("aside label")].filter(e => /Feeder 1|Level 31/.test(e.innerText)).forEach(e => e.querySelector("input").click())`)
	b.fill("Prefix on Feeder 1", "F-")
	b.fill("Shift on Feeder 1", "100")
	b.press("Place on 2 devices")
	b.until("both follow",
		`document.querySelectorAll("[data-standing]").length === 2 && [...document.querySelectorAll("[data-standing]")].every(e => e.innerText.includes("follows"))`)
	b.to("/points/feeder1")
	b.rowNamed("F-Flow")
	b.sees("30101")
	b.does(`[...document.querySelectorAll("[data-point]")].find(e => e.innerText.includes("F-Flow")).querySelector('[data-col="pace"]').dispatchEvent(new MouseEvent("mousedown", { bubbles: true }))`)
	b.keys("9 s\r")
	b.until("it has departed", `[...document.querySelectorAll('[data-col="pace"]')].some(e => e.innerText === "9 s")`)
	b.to("/points/datasheets/shelf-flow-meter-mf6")
	b.sees("departs in 1 place")
	b.does(`document.querySelector('[data-sheet-point="p01"] [data-col="order"]').click()`)
	b.until("the cell is open", `document.activeElement.ariaLabel === "Order"`)
	b.does(`document.activeElement.select()`)
	b.keys("DCBA\r")
	b.until("the datasheet has it",
		`document.querySelector('[data-sheet-point="p01"] [data-col="order"]').innerText === "DCBA"`)
	b.to("/points/feeder1")
	b.until("the device follows",
		`[...document.querySelectorAll("[data-point]")].some(e => e.innerText.includes("F-Flow") && e.innerText.includes("DCBA") && e.innerText.includes("9 s"))`)

	b.to("/points/datasheets/structures")
	b.press("New structure")
	b.fill("Name of the structure", "Tank")
	b.fill("Member 1", "Level")
	b.press("Add a member")
	b.fill("Member 2", "Open")
	b.choose("Type of member 2", "bool")
	b.fill("Elements of member 2", "3")
	b.fill("Further dimensions of member 2", "0..")
	b.press("Keep the structure")
	b.sees("dimension 2 of Open has no element")
	b.fill("Further dimensions of member 2", "0..3")
	b.press("Keep the structure")
	b.until("every rule lays it out", `document.querySelector("[data-testid=layouts]")?.innerText.includes("Open[3,3]")`)
	b.choose("Device", "level31")
	b.fill("Begins at", "40201")
	b.press("Place it")
	b.sees("13 points")
	b.to("/points/level31")
	b.rowNamed("Tank.Open[3,3]")
	b.sees("40203.11")
}

// TestByKeyboard: the way from the first screen to the explanation of a point,
// without the mouse.
func TestByKeyboard(t *testing.T) {
	t.Parallel()
	f := start(t, "demo", t.TempDir())
	b := f.open(t, "/")
	b.sees("Plant net")
	b.find("Start the run")
	b.find("pH 21")
	b.sees("5 points")
	b.until("the grid has the focus", `document.activeElement.role === "grid"`)
	b.keys(kb.ArrowDown)
	b.until("WaterTemp is open", `document.querySelector("[data-inspector] h2")?.innerText === "WaterTemp"`)
	b.find("Fathom the chosen point")
	b.until("the reading can be typed", `document.activeElement.ariaLabel === "The display shows"`)
	// The display shows the acidity too: together they tell the shift.
	b.press("It shows another point as well")
	b.choose("Other point 1", "ph21-01")
	b.fill("Other point 1 shows", "7.4")
	b.fill("Within", "0.8")
	b.fill("The display shows", "12.6")
	b.keys(kb.Enter)
	b.until("there are explanations", `document.querySelector("[data-testid=candidates]")`)
	b.sees("and 7.4 at")
	b.sees("To be sure:")
	b.find("Ask the device at the edges")
	b.sees("The map is off by one")
}
