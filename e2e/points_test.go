package e2e

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// cell returns the selector of a cell of the grid.
func cell(point, column string) string {
	return fmt.Sprintf(`[data-point=%q] [data-col=%q]`, point, column)
}

// press the mouse on a cell, as a click does.
func (b *browser) cell(point, column string) {
	b.t.Helper()
	b.until("cell "+point+" "+column, fmt.Sprintf(`document.querySelector(%q)`, cell(point, column)))
	b.does(fmt.Sprintf(`document.querySelector('[role=grid]').focus(); document.querySelector(%q).dispatchEvent(new MouseEvent("mousedown", { bubbles: true }))`, cell(point, column)))
	b.until("it is active", fmt.Sprintf(`document.querySelector(%q).classList.contains("active")`, cell(point, column)))
}

func (b *browser) shows(point, column, text string) {
	b.t.Helper()
	b.until(fmt.Sprintf("%s of %s is %q", column, point, text),
		fmt.Sprintf(`document.querySelector(%q)?.innerText.trim() === %q`, cell(point, column), text))
}

// TestGrid: the map behaves as a spreadsheet, every notation can be typed, and
// what is wrong shows at its cell.
func TestGrid(t *testing.T) {
	t.Parallel()
	f := start(t, "demo", t.TempDir())
	b := f.open(t, "/points/do11/do11-01")
	b.sees("Its address, in every notation")
	for _, text := range []string{"40001", "400001", "4x00001", "hr0", "0x0000", "%MW0"} {
		b.sees(text)
	}
	b.cell("do11-07", "address")
	for _, c := range []struct{ typed, shown string }{{"40100", "40100"}, {"400101", "40101"}, {"hr101", "40102"},
		{"0x0066", "40103"}, {"%MW103", "40104"}, {"104", "40105"}} {
		b.cell("do11-07", "address")
		b.keys(c.typed, kb.Enter)
		b.shows("do11-07", "address", c.shown)
	}
	// A bad entry is refused at the cell and stays as typed, until Esc.
	b.cell("do11-07", "address")
	b.keys("4oo06", kb.Enter)
	b.sees("is in no notation of Modbus")
	b.until("what was typed stays", `document.activeElement.value === "4oo06"`)
	b.keys(kb.Escape)
	b.shows("do11-07", "address", "40105")

	// An overlap, a name that differs in case and a limit show at their cells.
	b.cell("do11-07", "address")
	b.keys("40002", kb.Enter)
	b.until("the overlap is marked",
		fmt.Sprintf(`document.querySelector(%q).classList.contains("fault")`, cell("do11-07", "address")))
	b.cell("do11-02", "name")
	b.keys("OXYGEN", kb.Enter)
	b.until("the name is marked",
		fmt.Sprintf(`document.querySelector(%q).classList.contains("doubt")`, cell("do11-02", "name")))
	b.sees("1 overlap")

	// Arrows, a block pasted over cells, fill down, undo.
	b.cell("do11-01", "unit")
	b.paste("ppm\t2 s\nK\t2 s")
	b.shows("do11-02", "unit", "K")
	b.shows("do11-02", "pace", "2 s")
	b.cell("do11-01", "pace")
	b.run(key(kb.ArrowDown, true), key(kb.ArrowDown, true), key(kb.ArrowDown, true))
	b.ctrl("d")
	b.shows("do11-04", "pace", "2 s")
	b.ctrl("z")
	b.shows("do11-04", "pace", "1 s")
	b.cell("do11-01", "unit")
	b.keys(kb.Delete)
	b.shows("do11-01", "unit", "")

	// A bit makes a bool of the point; the value lives in the grid.
	b.cell("do11-07", "address")
	b.keys("40006.3", kb.Enter)
	b.shows("do11-07", "type", "bool")

	// A point is added in the last row, and removed.
	b.run(key(kb.Home, false))
	b.cell("do11-16", "name")
	b.keys(kb.ArrowDown, "Depth", kb.Enter)
	b.until("the point is there",
		`[...document.querySelectorAll('[data-col="name"]')].some(e => e.innerText === "Depth")`)
	b.sees("17 points")
	// By its address alone, too.
	b.cell("do11-16", "address")
	b.keys(kb.ArrowDown, kb.ArrowDown, "40120", kb.Enter)
	b.sees("18 points")
	b.until("the point is at its address",
		`[...document.querySelectorAll('[data-col="address"]')].some(e => e.innerText === "40120")`)
}

// TestIntake: rows of a foreign table come in after a preview; bad ones are
// listed and corrected in place; the map goes out as CSV.
func TestIntake(t *testing.T) {
	t.Parallel()
	f := start(t, "demo", t.TempDir())
	b := f.open(t, "/points/gate")
	b.press("Paste rows")
	b.until("the box has the focus", `document.activeElement.tagName === "TEXTAREA"`)
	b.paste("\ufeffTag;Register;Data " +
		"type;EU;R/W;Colour\r\nChiller-1;40201;REAL;°C;R;blue\r\nChiller-2;4o203;REAL;°C;R;blue\r\nChiller-3;40205;REAL33;°C;R;blue\r\nOxygen-11;40101;INT;ppm;RW;red\r\n")
	b.sees("4 rows: 1 new, 1 changed, 0 as they are")
	b.sees("2 rows cannot come in yet")
	b.sees("line 3")
	b.sees("line 4")
	b.press("Bring in the good rows")
	b.sees("2 rows: 0 new")
	b.fill("Register in line 3", "40203")
	b.fill("Data type in line 4", "float32")
	b.press("Check the corrected rows")
	b.sees("none with a problem")
	b.press("Bring in 2 rows")
	b.until("all three chillers are in the map",
		`["Chiller-1", "Chiller-2", "Chiller-3"].every(n => [...document.querySelectorAll('[data-col="name"]')].some(e => e.innerText === n))`)

	b.until("the dialog is closed", `!document.querySelector("[role=dialog]")`)
	body, err := io.ReadAll(f.fetch(t, "/api/devices/gate/map.csv").Body)
	if err != nil || !strings.Contains(string(body), "Chiller-2,40203,float32,ABCD,,,°C,1 s,,r,,,,,,,400203,") {
		t.Errorf("handed out: %s, %v", body, err)
	}

	// The same list as a file: nothing in it is new.
	file := filepath.Join(t.TempDir(), "gateway.csv")
	if err := os.WriteFile(file, body, 0o644); err != nil {
		t.Fatal(err)
	}
	b.run(chromedp.SetUploadFiles(chromedp.CSS(`input[aria-label="File with points"]`), []string{file}))
	b.sees("10 rows of gateway.csv: 0 new, 0 changed, 10 as they are, none with a problem")
	b.press("Close")

	// Fifty thousand rows with a bad one in the middle.
	var table strings.Builder
	table.WriteString("name,address,type\n")
	for i := range 50_000 {
		where := fmt.Sprintf("hr%d", i)
		if i == 25_000 {
			where = "nowhere"
		}
		fmt.Fprintf(&table, "P%05d,%s,uint16\n", i, where)
	}
	b.to("/points/uv")
	b.press("Paste rows")
	b.paste(table.String())
	b.sees("50\u2009000 rows: 49999 new")
	b.sees("line 25002")
	b.press("Bring in 49\u2009999 rows")
	b.sees("1 row: 0 new")
	b.press("Close")
	b.sees("50\u2009004 points")
	b.keys(kb.End)
	b.run(key(kb.End, false))
	b.ctrl("z")
	b.sees("Taken back: brought 49999 points")
	b.sees("5 points")
}
