package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestTimetable: a list on a line, and a whole site, compile into requests with
// their times; what is meant otherwise is refused with the reason.
func TestTimetable(t *testing.T) {
	list := filepath.Join(t.TempDir(), "map.csv")
	if err := os.WriteFile(list,
		[]byte("name,address,type,pace\nOxygen,40001,float32,1 s\nTemp,40003,int16,1 s\nSerial,40020,uint16,once\n"),
		0o644); err != nil {
		t.Fatal(err)
	}
	var plan struct {
		Lines []struct {
			Line                 string
			Utilisation, RoundMs float64
			Holds                bool
		}
		Requests []struct {
			Device, Function, Address string
			Count, PaceMs             int
			Points                    []string
			WireMs, DeviceMs, SlackMs float64
		}
		Findings []any
	}
	code, out, errs := do(t, "timetable", "--map", list, "--line", "rtu:9600:8E1", "--think", "15", "--json")
	if err := json.Unmarshal([]byte(out), &plan); err != nil || code != exitFine {
		t.Fatalf("exit %d: %s %s, %v", code, out, errs, err)
	}
	if len(plan.Lines) != 1 || plan.Lines[0].Line != "rtu:9600:8E1" || !plan.Lines[0].Holds ||
		len(plan.Requests) != 2 || plan.Findings == nil {
		t.Fatalf("%+v", plan)
	}
	// 8 characters out, 11 in, at 11 bits each, and the silence between them.
	if q := plan.Requests[0]; q.Count != 3 || q.PaceMs != 1000 || strings.Join(q.Points, " ") != "Oxygen Temp" ||
		q.WireMs < 25.78 || q.WireMs > 25.79 || q.DeviceMs < 15 || q.DeviceMs > 15.1 {
		t.Errorf("%+v", q)
	}
	const demo = "../../internal/bench/demo.site.json"
	if code, out, _ := do(t, "timetable", demo, "--silent", "DO probe 13"); code != exitFine ||
		!strings.Contains(out, "Tank row A: ") || !strings.Contains(out, "every pace holds") {
		t.Errorf("exit %d: %s", code, out)
	}
	for _, wrong := range [][]string{{"timetable"}, {"timetable", demo, "--map", list},
		{"timetable", "--map", list, "--line", "loop"}, {"timetable", "--map", list, "--line", "rtu:fast"},
		{"timetable", "--map", demo}, {"timetable", demo, "--silent", "nobody"}, {"timetable", "gone.json"}} {
		if code, _, errs := do(t, wrong...); code != exitUsage || errs == "" {
			t.Errorf("%v: exit %d, %q", wrong, code, errs)
		}
	}
	if code, out, _ := do(t, "probe", "modbus-rtu:///dev/ttyUSB77?baud=9600&parity=N&stop=2&unit=3",
		"--json"); code != exitFound ||
		!strings.Contains(out, "this machine has no port") && !strings.Contains(out, "This machine has no port") {
		t.Errorf("a port that is not there: exit %d, %s", code, out)
	}
	for _, wrong := range []string{"modbus-rtu://", "modbus-rtu:///dev/ttyUSB0?parity=X",
		"modbus-rtu:///dev/ttyUSB0?baud=quick", "modbus-rtu:///dev/ttyUSB0?unit=300", "modbus-rtu-tcp://?unit=1"} {
		if code, _, errs := do(t, "probe", wrong); code != exitUsage || errs == "" {
			t.Errorf("%s: exit %d, %q", wrong, code, errs)
		}
	}
}
