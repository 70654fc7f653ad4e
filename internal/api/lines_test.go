package api

import (
	"encoding/json"
	"testing"
	"time"

	"ferry/internal/bench"
	"ferry/internal/core/site"
	"ferry/internal/core/timetable"
	"ferry/internal/field"
)

// TestTake: what a sweep finds and the plan does not know becomes a device with
// a link, in one step.
func TestTake(t *testing.T) {
	s := listening(t)
	var sweep field.Sweep
	s.call("POST", "/api/sweeps", field.SweepOrder{Kind: "stations", Line: "rowa", FromStation: 38, ToStation: 41},
		&sweep)
	for deadline := time.Now().Add(15 * time.Second); sweep.Running &&
		time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
		s.call("GET", "/api/sweeps/"+sweep.ID, nil, &sweep)
	}
	if len(sweep.Found) != 1 || sweep.Found[0].Station != 40 {
		t.Fatalf("%+v", sweep)
	}
	var answer EditAnswer
	s.call("POST", "/api/sweeps/"+sweep.ID+"/take", TakeRequest{Found: sweep.Found, Asking: "lss"}, &answer)
	var view SiteView
	s.call("GET", "/api/site", nil, &view)
	linked := 0
	for _, l := range view.Links {
		if l.Line == "rowa" && l.Settings["unit"].Int() == 40 {
			linked++
		}
	}
	if n := len(bench.Demo().Devices) + 1; len(view.Devices) != n || linked != 1 ||
		view.Devices[n-1].Model != "Level radar LR-1" {
		t.Errorf("%d devices, %d links to it, %+v", len(view.Devices), linked, view.Devices[len(view.Devices)-1])
	}
}

// TestWhatIf: a change is compiled without being made, and made as one step
// that brings what it promised.
func TestWhatIf(t *testing.T) {
	s := listening(t)
	var look timetable.Outlook
	s.call("GET", "/api/lines/rowa/outlook?silent=do13,do14", nil, &look)
	if look.Chosen == nil || len(look.Chosen.Names) != 2 || len(look.Advice) == 0 {
		t.Fatalf("%+v", look)
	}
	var baud timetable.Advice
	for _, a := range look.Advice {
		if a.Kind == "baud" {
			baud = a
			break
		}
	}
	request := WhatIfRequest{Line: "rowa", What: "raised the baud rate", Edits: baud.Edits}
	load := func(p *timetable.Plan) float64 {
		for _, l := range p.Lines {
			if l.Line == "rowa" {
				return l.Utilisation
			}
		}
		return 0
	}
	var paper, done WhatIfView
	var now TimetableView
	s.call("POST", "/api/timetable/whatif", request, &paper)
	s.call("GET", "/api/timetable", nil, &now)
	if load(now.Plan) <= load(paper.Plan) || load(paper.Plan) != baud.After {
		t.Errorf("on paper %g, promised %g, as it is %g", load(paper.Plan), baud.After, load(now.Plan))
	}
	request.Commit = true
	var problem struct{}
	if code := s.call("POST", "/api/timetable/whatif", request, &problem); code != 409 {
		t.Errorf("advice on another state of the site: %d", code)
	}
	request.Seq = paper.Seq
	s.call("POST", "/api/timetable/whatif", request, &done)
	if load(done.Plan) != baud.After {
		t.Errorf("made, it is %g, promised %g", load(done.Plan), baud.After)
	}
	if code := s.call("POST", "/api/timetable/whatif",
		WhatIfRequest{Line: "rowa",
			Edits: []site.Edit{{Kind: "line", ID: "rowa", After: json.RawMessage(`{"medium":"smoke"}`)}}},
		&struct{}{}); code != 422 {
		t.Errorf("an edit that cannot be kept: %d", code)
	}
	if code := s.call("POST", "/api/timetable/learn", struct{}{}, &struct{}{}); code != 422 {
		t.Errorf("learning from nothing: %d", code)
	}
}

// TestKeepAccess: a device that is kept as a datasheet hands its checklist over;
// what changes there is what the device has to see to.
func TestKeepAccess(t *testing.T) {
	s := listening(t)
	var view SiteView
	var answer EditAnswer
	s.call("POST", "/api/datasheets/keep", KeepRequest{Device: "do14", Name: "Optode DO-4 as found"}, &answer)
	sheet := func() SheetView {
		var sheets SheetsView
		s.call("GET", "/api/datasheets", nil, &sheets)
		for _, sheet := range sheets.Datasheets {
			if sheet.Name == "Optode DO-4 as found" {
				return sheet
			}
		}
		t.Fatal("it was not kept")
		return SheetView{}
	}
	if kept := sheet(); len(kept.Access) != 2 || kept.ThinkMs != 12 {
		t.Errorf("%+v", kept)
	}
	s.call("GET", "/api/site", nil, &view)
	access := append(sheet().Access,
		site.AccessLine{ID: "new", Kind: site.AccessWrite, Text: "Menu 5: calibration from the bus"})
	s.call("POST", "/api/datasheets/"+sheet().ID+"/cells",
		SheetCellsRequest{Base: answer.Seq, Cells: []SheetCell{}, Remove: []string{}, Add: []string{}, Access: &access},
		&answer)
	s.call("GET", "/api/site", nil, &view)
	if list := view.Checklists["do14"]; len(list) != 3 || list[2].ID != "new" {
		t.Errorf("the device has to see to %+v", list)
	}
	access[0].Kind = "whim"
	if code := s.call("POST", "/api/datasheets/"+sheet().ID+"/cells",
		SheetCellsRequest{Base: answer.Seq, Access: &access}, &struct{}{}); code != 422 {
		t.Errorf("a kind that is none: %d", code)
	}
}
