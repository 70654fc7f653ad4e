package api

import (
	"io"
	"net/http"
	"strconv"
	"strings"
	"testing"
	"time"

	"ferry/internal/core/checkout"
	"ferry/internal/core/regmap"
	"ferry/internal/field"
)

// TestCheckout: points of the bench are proved right and wrong, what cannot be so is
// refused, a change has the right ones proved again, and a restart keeps all of it.
func TestCheckout(t *testing.T) {
	c := listening(t)
	var started, nothing map[string]any
	c.call("POST", "/api/run/start", map[string]any{}, &started)
	read := func(point string) (view VerdictView) {
		t.Helper()
		for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(50 * time.Millisecond) {
			var answer VerdictView
			if c.call("POST", "/api/checkout/judge", JudgeRequest{point, "-999"}, &answer) == 200 {
				return answer
			}
			if time.Now().After(deadline) {
				t.Fatalf("%s is not read", point)
			}
		}
	}
	seen := read("do11-01")
	record := func(result checkout.Result, points ...ProofPoint) (int, string) {
		t.Helper()
		var answer map[string]any
		code := c.call("POST", "/api/checkout", ProofRequest{Points: points, Result: result, Method: checkout.Display},
			&answer)
		sentence, _ := answer["sentence"].(string)
		return code, sentence
	}
	var proof ProofView
	c.call("GET", "/api/checkout/points/do11-01", nil, &proof)
	if proof.Line != "Plant net" || len(proof.Far) == 0 || !proof.Far[0].Into || len(proof.Proofs) != 0 {
		t.Errorf("%+v", proof)
	}
	read(proof.Far[0].Point)
	shown := ProofPoint{Point: "do11-01", Shown: seen.Read, Read: seen.Read, ReadAtMs: seen.ReadAtMs,
		Versions: &proof.Versions}
	if code, said := record(checkout.Right, shown); code != 200 {
		t.Fatalf("right: %d, %s", code, said)
	}
	apart := shown
	apart.Shown = "99"
	for _, bad := range []struct {
		result checkout.Result
		point  ProofPoint
		says   string
	}{{checkout.Right, apart, "the display shows 99"}, {checkout.Cannot, shown, "Why it cannot be tested"},
		{checkout.Right, ProofPoint{Point: "do11-01", Shown: strings.Repeat("1", 3000)}, "No display shows so much"},
		{checkout.Right, ProofPoint{Point: "gone"}, "no longer in the site"}, {"perhaps", shown, "no result"},
		{checkout.Right, ProofPoint{Point: "do11-01", Shown: "much", Read: seen.Read, ReadAtMs: seen.ReadAtMs},
			"not a number"},
		{checkout.Right, ProofPoint{Point: "do11-01", Versions: &checkout.Versions{Map: 99}}, "has been changed"}} {
		if code, said := record(bad.result, bad.point); code == 200 || !strings.Contains(said, bad.says) {
			t.Errorf("%s %+v: %d, %s", bad.result, bad.point, code, said)
		}
	}
	read("do12-01")
	if code, said := record(checkout.Wrong, ProofPoint{Point: "do12-01", Shown: "3"}); code != 200 {
		t.Errorf("wrong: %d, %s", code, said)
	}
	states := func() string {
		var out []string
		for _, device := range []string{"do11", "do12"} {
			var view ProvingView
			c.call("GET", "/api/checkout/devices/"+device, nil, &view)
			for _, p := range view.Points {
				if p.State != checkout.Left {
					out = append(out, p.Point+" "+string(p.State)+" "+strings.Join(p.Changed, "; "))
				}
			}
		}
		return strings.TrimSpace(strings.Join(out, "|"))
	}
	if got := states(); got != "do11-01 right |do12-01 wrong" {
		t.Errorf("they stand %q", got)
	}
	var points PointsView
	c.call("GET", "/api/devices/do11/points", nil, &points)
	var step EditAnswer
	c.call("POST", "/api/devices/do11/cells", CellsRequest{What: "scaled", Cells: []CellEdit{
		{"do11-01", regmap.Scale, "÷ 10", points.Rows[0].Version},
		{"do11-02", regmap.Scale, "÷ 10", points.Rows[1].Version}}}, &step)
	if got := states(); got != "do11-01 again scale was none, is ÷ 10|do12-01 wrong" {
		t.Errorf("after the change they stand %q", got)
	}
	c.call("POST", "/api/undo", nil, &step)
	if got := states(); got != "do11-01 right |do12-01 wrong" {
		t.Errorf("after it was taken back they stand %q", got)
	}
	if code, _ := record(checkout.Withdrawn, ProofPoint{Point: "do12-01"}); code != 200 || states() != "do11-01 right" {
		t.Errorf("withdrawn: %d, %q", code, states())
	}

	// What was proved on the bench is a rehearsal: on the plant it does not count.
	c.call("POST", "/api/run/stop", map[string]any{}, &nothing)
	c.call("POST", "/api/mode", map[string]any{"mode": "plant"}, &nothing)
	if got := states(); got != "" {
		t.Errorf("on the plant they stand %q", got)
	}
	c.call("POST", "/api/mode", map[string]any{"mode": "bench"}, &nothing)
	c.call("POST", "/api/run/start", map[string]any{}, &started)

	// A column of readings.
	var list ReadingsView
	c.call("POST", "/api/checkout/readings", ReadingsRequest{Device: "do11", Text: "Oxygen\t" + read("do11-01").Read +
		"\nWaterTemp\t-40\nSalt\t1\n"}, &list)
	if len(list.Rows) != 3 || !list.Rows[0].Agrees || list.Rows[1].Agrees || !list.Rows[1].Judged ||
		list.Rows[2].Why == "" {
		t.Errorf("%+v", list.Rows)
	}

	// Who is where.
	var at []ProverView
	c.call("POST", "/api/checkout/at", ProverRequest{"one", "do11-01"}, &at)
	c.call("POST", "/api/checkout/at", ProverRequest{"two", "do11-01"}, &at)
	if len(at) != 2 || at[0].Who != "test window" {
		t.Errorf("%+v", at)
	}
	c.call("POST", "/api/checkout/at", ProverRequest{"one", ""}, &at)
	if len(at) != 1 || at[0].Window != "two" {
		t.Errorf("%+v", at)
	}
	var all []checkout.Proved
	if c.call("GET", "/api/checkout/proofs", nil, &all); len(all) != 3 || all[2].Read == "" ||
		all[2].Who != "test window" || all[2].Far == "" {
		t.Errorf("%+v", all)
	}
	c.call("POST", "/api/run/stop", map[string]any{}, &nothing)
	response, err := http.Get(c.url + "/api/file/checkout.csv")
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	if text, err := io.ReadAll(response.Body); err != nil ||
		!strings.Contains(string(text), "DO probe 11,Oxygen,40001,mg/L,right,") ||
		!strings.HasPrefix(response.Header.Get("Content-Type"), "text/csv") {
		t.Errorf("%.600s, %v", text, err)
	}
}

// TestSnapshots: what is read is kept, compared, and written back by orders of their own.
func TestSnapshots(t *testing.T) {
	c := listening(t)
	var nothing map[string]any
	if code := c.call("POST", "/api/snapshots", SnapshotRequest{Name: "before"}, &nothing); code == 200 {
		t.Errorf("nothing is read, and it is kept: %+v", nothing)
	}
	c.call("POST", "/api/run/start", map[string]any{}, &nothing)
	set := func(text string) {
		t.Helper()
		var order field.WriteOrder
		var result field.WriteResult
		c.call("POST", "/api/write/prepare", map[string]string{"point": "pump1-02", "text": text}, &order)
		if c.call("POST", "/api/write", map[string]string{"token": order.Token}, &result); !result.OK {
			t.Fatalf("%+v, %+v", order, result)
		}
	}
	set("40")
	var kept SnapshotView
	for _, bad := range []string{"", strings.Repeat("x", 201)} {
		if code := c.call("POST", "/api/snapshots", SnapshotRequest{Name: bad, Device: "pump1"}, &nothing); code == 200 {
			t.Errorf("the name %q is taken", bad)
		}
	}
	if code := c.call("POST", "/api/snapshots", SnapshotRequest{Name: "before the exchange", Device: "pump1"},
		&kept); code != 200 || kept.ID == 0 {
		t.Fatalf("%d, %+v", code, kept)
	}
	set("35,5")
	at := "/api/snapshots/" + strconv.FormatInt(kept.ID, 10)
	differs := func() (row checkout.Difference) {
		t.Helper()
		var view ComparedView
		c.call("GET", at, nil, &view)
		for _, r := range view.Rows {
			if r.Point == "pump1-02" {
				return r
			}
		}
		t.Fatalf("%+v", view)
		return row
	}
	if r := differs(); !r.Differs || r.Was != "40.00" || r.Is != "35.50" || !r.Writable {
		t.Errorf("%+v", r)
	}
	var back WriteBackView
	c.call("POST", at+"/back", WriteBackRequest{Points: []string{"pump1-02", "pump1-04", "do11-01"}}, &back)
	if len(back.Rows) != 3 || back.Rows[0].Order == nil || back.Rows[0].Order.New != "40.00" || back.Rows[1].Why == "" ||
		back.Rows[2].Why == "" {
		t.Fatalf("%+v", back)
	}
	if r := differs(); !r.Differs {
		t.Errorf("it is written though nobody ordered that: %+v", r)
	}
	var result field.WriteResult
	c.call("POST", "/api/write", map[string]string{"token": back.Rows[0].Order.Token}, &result)
	if r := differs(); !result.OK || r.Differs {
		t.Errorf("%+v, %+v", result, r)
	}
	var list []checkout.Snapshot
	if c.call("GET", "/api/snapshots", nil, &list); len(list) != 1 || len(list[0].Values) != 0 ||
		list[0].Who != "test window" || list[0].AtMs == 0 {
		t.Errorf("%+v", list)
	}
	c.call("POST", at+"/remove", nil, &nothing)
	if code := c.call("GET", at, nil, &nothing); code == 200 {
		t.Error("it is removed, and there")
	}
	c.call("POST", "/api/run/stop", map[string]any{}, &nothing)
}
