package api

import (
	"encoding/csv"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"ferry/internal/core/value"
)

// TestTrends: two shores are recorded, drawn, summed up, and the time between them is measured;
// what cannot be recorded is refused with its reason.
func TestTrends(t *testing.T) {
	c := listening(t)
	var nothing map[string]any
	for name, asked := range map[string]StripRequest{
		"no name":     {Points: []string{"do11-01"}, Hours: 1},
		"no point":    {Name: "night", Hours: 1},
		"gone":        {Name: "night", Points: []string{"do11-99"}, Hours: 1},
		"no end":      {Name: "night", Points: []string{"do11-01"}},
		"for a month": {Name: "night", Points: []string{"do11-01"}, Hours: 720},
	} {
		if code := c.call("POST", "/api/trends", asked, &nothing); code == 200 {
			t.Errorf("%s: %+v", name, nothing)
		}
	}
	c.call("POST", "/api/run/start", map[string]any{}, &nothing)
	var strip StripView
	if code := c.call("POST", "/api/trends", StripRequest{Name: "=night", Points: []string{"do11-01", "gate-01", "do11-05",
		"do11-02", "gate-02"}, Hours: 1}, &strip); code != 200 || len(strip.Pens) != 5 {
		t.Fatalf("%d, %+v", code, strip)
	}
	time.Sleep(6 * time.Second)
	at := fmt.Sprintf("/api/trends/%d", strip.ID)
	var column ColumnView // what the gateway shows of the same values
	if c.call("GET", "/api/checkout/devices/do11/column?from=gate", nil, &column); !strings.HasPrefix(column.Text,
		"Oxygen\t") || column.Without == 0 {
		t.Errorf("%+v", column)
	}
	var chart ChartView
	c.call("GET", at+"/chart?pens=0,1&columns=400", nil, &chart)
	if len(chart.Pens) != 2 || chart.Pens[0].Count < 4 || !chart.Pens[0].All ||
		len(chart.Pens[0].V) != chart.Pens[0].Count {
		t.Errorf("%+v", chart)
	}
	// A source in another unit is drawn on the axis of its far shore.
	c.call("GET", at+"/chart?pens=3,4&columns=400", nil, &chart)
	if n := len(chart.Pens) - 1; n != 2 || chart.Pens[n].Into == nil || *chart.Pens[n].Into != 4 ||
		chart.Pens[n].V[0] < 40 {
		t.Errorf("%+v", chart.Pens)
	}
	if code := c.call("POST", at+"/remove", nil, &nothing); code == 200 {
		t.Error("it was removed while it was being recorded")
	}
	c.call("POST", at+"/stop", nil, &nothing)
	var sums SumView
	c.call("GET", at+"/sums", nil, &sums)
	if len(sums.Pens) != 5 || sums.Pens[0].Summary.Samples < 4 || sums.Pens[0].Summary.CoveredMs < 4000 {
		t.Fatalf("%+v", sums)
	}
	if len(sums.Lags) != 2 || sums.Lags[0].Crossing != "x-oxygen" || sums.Lags[0].Lag.Matched < 1 ||
		sums.Lags[0].Lag.MedianMs > 3000 {
		t.Errorf("%+v", sums.Lags)
	}
	for _, bad := range []string{"/chart?from=noon", "/chart?pens=7", "/chart?columns=1", "/sums?pens=-1",
		"/chart?last=-1"} {
		if code := c.call("GET", at+bad, nil, &nothing); code == 200 || nothing["sentence"] == "" {
			t.Errorf("%s: %d, %v", bad, code, nothing)
		}
	}
	answer, err := http.Get(c.url + "/api/file" + strings.TrimPrefix(at, "/api") + ".csv")
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	rows, err := csv.NewReader(io.Reader(answer.Body)).ReadAll()
	var list []StripView
	if c.call("GET", "/api/trends", nil, &list); len(list) != 1 || list[0].ToUs == 0 ||
		list[0].Why != "stopped by test window" {
		t.Fatalf("%+v", list)
	}
	whole := 0
	for _, row := range rows[1:] {
		if row[2] != "" {
			whole++
		}
	}
	if err != nil || int64(whole) != list[0].Samples {
		t.Errorf("%d rows of %d samples: %v", whole, list[0].Samples, err)
	}
	if c.call("POST", at+"/remove", nil, &nothing); c.call("GET", at+"/chart", nil, &nothing) == 200 {
		t.Error("it is there once removed")
	}
}

// TestEarlier: a value of a trend is of the kind that is read, so that a display that is a moment
// behind is not called wrong.
func TestEarlier(t *testing.T) {
	for _, v := range []value.Value{value.OfBool(true), value.OfInt(-7), value.OfUint(7), value.OfFloat(9.25),
		value.OfMoment(1795766400123),
		value.OfSpan(90_500)} {
		if got := earlier(v, v.Float()); got != v {
			t.Errorf("%v became %v", v, got)
		}
	}
}
