package internal_test

import (
	"strings"
	"testing"
	"time"

	"ferry/internal/api"
	"ferry/internal/core/timetable"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/vault"
)

// twoMaps is the toy's site with a hall that is asked for registers as well, over
// two links.
func twoMaps() string {
	return strings.NewReplacer(
		`"map": "toy-tcp", "points": [],
     "ports": [`, `"map": "toy-tcp", "points": [
       {"id": "level", "name": "Level", "map": "modbus-tcp", "address": "hr0", "type": "float32", "paceMs": 100, "access": "r"},
       {"id": "spare", "name": "Spare", "map": "modbus-tcp", "link": "third", "address": "hr2", "type": "uint16",
        "paceMs": 100, "access": "rw"}],
     "ports": [{"line": "net", "host": "192.0.2.2", "protocol": "modbus-tcp"},
       `,
		`"links": [`, `"links": [
    {"id": "second", "asking": "laptop", "answering": "hall", "line": "net", "protocol": "modbus-tcp"},
    {"id": "third", "asking": "laptop", "answering": "hall", "line": "net", "protocol": "modbus-tcp"},`,
	).Replace(toySite)
}

// TestTwoMaps: a device that is asked over two protocols has a map for each, and
// each of its points is carried by one link.
func TestTwoMaps(t *testing.T) {
	h := open(t, twoMaps())
	h.call("POST", "/api/kept/secret/hall%20phrase", toyPhrase, &[]vault.Kept{})
	h.takeIn() // into the map of the device itself: the other is left alone
	now, _ := h.store.Site()
	if d := now.Device("hall"); len(d.Points) != 6 || d.Map != "toy-tcp" {
		t.Fatalf("the hall has %d points and the map %s", len(d.Points), d.Map)
	}
	for name, want := range map[string]int{"": 4, "toy-tcp": 4, "modbus-tcp": 2, "modbus-rtu": 2, "block-tcp": 0} {
		var view api.PointsView
		h.call("GET", "/api/devices/hall/points?map="+name, nil, &view)
		if view.Count != want || len(view.Rows) != want {
			t.Errorf("the map %q has %d points, want %d", name, view.Count, want)
		}
	}
	var answer api.IntakeAnswer
	h.call("POST", "/api/devices/hall/intake?map=modbus-tcp", api.IntakeRequest{Commit: true,
		Text: "Name,Address,Type\nLevel,40001,float32\nPressure,40011,uint16\n"}, &answer)
	if answer.Added != 1 || answer.RemovedCount != 1 {
		t.Errorf("%d points came in, %d would go: %+v", answer.Added, answer.RemovedCount, answer)
	}
	plan := timetable.Compile(h.engine.Site())
	carried := map[string]string{}
	for _, r := range plan.Requests {
		for _, id := range r.Points {
			_, p := now.Point(id)
			if p == nil {
				continue
			}
			carried[p.Name] += r.Link + " "
		}
	}
	if carried["Level"] != "second third " || carried["Spare"] != "third " || carried["Oxygen"] != "" {
		t.Errorf("they are carried by %v", carried)
	}
	h.call("POST", "/api/run/start", api.RunRequest{}, &field.State{})
	h.until("both maps are read", func() bool {
		level, _ := h.engine.Hub.Point("level")
		return level.Quality == value.Good && h.live("Oxygen").Quality == value.Good &&
			h.live("Pressure").Quality == value.Good
	})
	order, err := h.engine.Prepare(t.Context(), "spare", "7")
	if err != nil || order.Link != "third" {
		t.Errorf("a write goes over %+v, %v", order, err)
	}
	r := h.try()
	if stops(r) != "good good good good good" {
		t.Errorf("%s: %+v", stops(r), r.Stops)
	}
	var found []string
	for _, f := range h.engine.Hub.Findings(h.engine.Site(), time.Now()) {
		found = append(found, f.Code)
	}
	if len(found) > 0 {
		t.Errorf("wrong with it: %v", found)
	}
	// A link that goes leaves its points to the others.
	var view api.SiteView
	h.call("GET", "/api/site", nil, &view)
	var done api.EditAnswer
	h.call("POST", "/api/edit", map[string]any{"what": "removed", "edits": []any{map[string]any{"kind": "link",
		"id": "third", "after": nil, "base": view.Versions["link:third"]}}}, &done)
	after, _ := h.store.Site()
	if _, p := after.Point("spare"); p == nil || p.Link != "" {
		t.Errorf("the point says %+v", p)
	}
}
