package api

import (
	"bytes"
	"encoding/json"
	"net/http"
	"os"
	"strings"
	"testing"
)

// TestOutline: the file of a whole station is taken in though it is large, and what is none is refused with
// a reason.
func TestOutline(t *testing.T) {
	c := listening(t)
	icd, err := os.ReadFile("../bench/concentrator.icd")
	if err != nil {
		t.Fatal(err)
	}
	open := func(body []byte) (view OutlineView, code string) {
		t.Helper()
		request, err := http.NewRequest(http.MethodPost, c.url+outlinesPath+"?name=shore.scd", bytes.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		request.Header.Set("X-Ferry-Window", "test window")
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		defer response.Body.Close()
		var answer struct {
			OutlineView
			Code string `json:"code"`
		}
		if err := json.NewDecoder(response.Body).Decode(&answer); err != nil {
			t.Fatal(err)
		}
		return answer.OutlineView, answer.Code
	}
	large := bytes.Replace(icd, []byte("</SCL>"), []byte("<!-- "+strings.Repeat("x", 9<<20)+" --></SCL>"), 1)
	view, code := open(large)
	if code != "" || len(view.Heads) != 1 || view.Heads[0].Name != "SKERRY_CONC" {
		t.Fatalf("%s, %+v", code, view)
	}
	var part OutlinePart
	if c.call("GET", "/api/outlines/"+view.ID+"/find?words=wet+mag.f", nil, &part); len(part.Items) != 1 ||
		part.Items[0].Address != "LD0/GGIO7.AnIn1.mag.f[MX]" {
		t.Errorf("%+v", part)
	}
	for want, body := range map[string]string{"not-known": "hello", "not-read": string(icd[:len(icd)/2]),
		"too-large": string(icd) + strings.Repeat(" ", mostDrawn)} {
		if _, code := open([]byte(body)); code != want {
			t.Errorf("%s, want %s", code, want)
		}
	}
}
