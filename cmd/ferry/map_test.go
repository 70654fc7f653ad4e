package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestMapCheck(t *testing.T) {
	path := filepath.Join(t.TempDir(), "list.csv")
	write := func(text string) {
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("Reg,Tag,Data type\n\"40,001\",Oxygen,FLOAT\n40002,Level,INT\n4o003,Temp,INT\n")
	var got struct {
		Points   int
		Rejected []struct {
			Line           int
			Column, Reason string
		}
		Findings []struct{ Code, Severity, Sentence string }
	}
	code, out, _ := do(t, "map", "check", path, "--json")
	if err := json.Unmarshal([]byte(out), &got); err != nil || code != exitFound || got.Points != 2 ||
		len(got.Rejected) != 1 || got.Rejected[0].Line != 4 || got.Rejected[0].Column != "Reg" ||
		len(got.Findings) == 0 || got.Findings[0].Code != "overlap" {
		t.Errorf("exit %d: %s, %v", code, out, err)
	}
	write("Reg,Tag,Data type\n40001,Oxygen,FLOAT\n40003,Level,INT\n")
	if code, out, _ := do(t, "map", "check", path); code != exitFine || !strings.Contains(out, "2 points") {
		t.Errorf("a good list: exit %d, %s", code, out)
	}
	if code, _, errOut := do(t, "map", "check", path+".gone"); code != exitUsage || errOut == "" {
		t.Errorf("no file: exit %d, %s", code, errOut)
	}
	for format, begins := range map[string]string{"csv": "name,", "json": "{", "xml": "<?xml", "html": "<!doctype",
		"pdf": "%PDF", "xlsx": "PK"} {
		if code, out, errOut := do(t, "map", "convert", path, "--to", format); code != exitFine ||
			!strings.HasPrefix(out, begins) {
			t.Errorf("to %s: exit %d, %s", format, code, errOut)
		}
	}
	if code, _, _ := do(t, "map", "convert", path, "--to", "doc"); code != exitUsage {
		t.Errorf("to doc: exit %d", code)
	}
}

func TestFathom(t *testing.T) {
	var got struct {
		Candidates []struct {
			Address, Type, Order       string
			Scale, Offset, Value, Sure float64
		}
		Ask *string
	}
	code, out, _ := do(t, "fathom", "--words", "9F3A 4148", "--shows", "12.5", "--within", "0.1", "--at", "40003",
		"--json")
	if err := json.Unmarshal([]byte(out), &got); err != nil || code != exitFine || len(got.Candidates) == 0 {
		t.Fatalf("exit %d: %s, %v", code, out, err)
	}
	if c := got.Candidates[0]; c.Address != "40003" || c.Type != "float32" || c.Order != "CDAB" || c.Scale != 1 ||
		c.Value < 12.5 || c.Value > 12.6 || c.Sure < 0.9 || got.Ask != nil {
		t.Errorf("%+v", got)
	}
	code, out, _ = do(t, "fathom", "--words", "0011 007D", "--shows", "12.5", "--words", "0011 0082", "--shows", "13.0",
		"--expect", "40001")
	if code != exitFine || !strings.Contains(out, "40002") ||
		!strings.Contains(strings.SplitN(out, "\n", 2)[0], "× 0.1") {
		t.Errorf("two moments: exit %d, %s", code, out)
	}
	if code, out, _ = do(t, "fathom", "--words", "5450 2D31 3230 3431"); code != exitFine ||
		!strings.Contains(out, "TP-12041") {
		t.Errorf("without a reading: exit %d, %s", code, out)
	}
	if code, _, _ = do(t, "fathom", "--words", "0001 0002", "--shows", "77.7"); code != exitFound {
		t.Errorf("nothing fits: exit %d", code)
	}
	if code, _, _ = do(t, "fathom", "--words", "zzzz", "--shows", "1"); code != exitUsage {
		t.Errorf("no words: exit %d", code)
	}
}
