package api

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"

	"ferry/internal/core/checkout"
	"ferry/internal/files"
)

func (c *client) file(path string) []byte {
	c.t.Helper()
	answer, err := http.Get(c.url + path)
	if err != nil {
		c.t.Fatal(err)
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(answer.Body)
	if err != nil || answer.StatusCode != 200 {
		c.t.Fatalf("%s: %d, %.300s, %v", path, answer.StatusCode, data, err)
	}
	return data
}

// TestPackHandedOver: the archive has every part, and another Ferry that is given the JSON has
// the site and its proofs; given again, nothing is there twice.
func TestPackHandedOver(t *testing.T) {
	c := listening(t)
	var nothing map[string]any
	c.call("POST", "/api/run/start", map[string]any{}, &nothing)
	var kept RecordedView
	if code := c.call("POST", "/api/checkout", ProofRequest{Result: checkout.Cannot, Reason: "the guard is closed",
		Points: []ProofPoint{{Point: "do11-01"}, {Point: "pump1-01"}}}, &kept); code != 200 {
		t.Fatalf("%d: %+v", code, kept)
	}
	data := c.file("/api/file/pack.zip?by=Ines")
	archive, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	var pack []byte
	for _, f := range archive.File {
		names = append(names, f.Name)
		if strings.HasSuffix(f.Name, ".json") && f.Name != "site.json" {
			r, err := f.Open()
			if err == nil {
				pack, err = io.ReadAll(r)
			}
			if err != nil {
				t.Fatal(err)
			}
		}
	}
	for _, ending := range []string{".pdf", ".html", ".xlsx", ".json", "csv/maps.csv", "csv/checkout.csv",
		"csv/crossings.csv", "site.json"} {
		if !slices.ContainsFunc(names, func(name string) bool { return strings.HasSuffix(name, ending) }) {
			t.Errorf("%s is missing of %v", ending, names)
		}
	}
	var file files.PackFile
	if err := json.Unmarshal(pack, &file); err != nil || len(file.Proofs) != 2 || file.By != "Ines" {
		t.Fatalf("%+v, %v", file.Proofs, err)
	}
	other := listening(t)
	var answer EditAnswer
	for _, says := range []string{"2 of 2 proofs", "0 of 2 proofs"} {
		if code := other.call("POST", "/api/file/site.json", json.RawMessage(pack), &answer); code != 200 ||
			!strings.Contains(answer.What, says) {
			t.Errorf("%d: %+v, not %s", code, answer, says)
		}
	}
	var proof ProofView
	if other.call("GET", "/api/checkout/points/do11-01", nil, &proof); len(proof.Proofs) != 1 ||
		proof.Proofs[0].AtMs != file.Proofs[0].AtMs || proof.Proofs[0].Reason != "the guard is closed" {
		t.Errorf("%+v", proof.Proofs)
	}
	if code := c.call("GET", "/api/file/pack.doc", nil, &nothing); code != 404 {
		t.Errorf("%d for another format", code)
	}
}

// TestAsLeft: the site is compared with an earlier state and with a file, and single things are
// brought over as one step that is taken back.
func TestAsLeft(t *testing.T) {
	c := listening(t)
	before := c.file("/api/file/site.json")
	var point PointView
	var edited EditAnswer
	c.call("GET", "/api/points/do11-01", nil, &point)
	change := func(name string) {
		t.Helper()
		c.call("GET", "/api/points/do11-01", nil, &point)
		point.Point.Name = name
		doc, err := json.Marshal(point.Point)
		if err != nil {
			t.Fatal(err)
		}
		if code := c.call("POST", "/api/edit", map[string]any{"what": "renamed",
			"edits": []any{map[string]any{"kind": "point",
				"id": "do11-01", "parent": "do11", "base": point.Version, "after": json.RawMessage(doc)}}}, &edited); code != 200 {
			t.Fatalf("%d: %+v", code, edited)
		}
	}
	change("Oxygen-A")
	change("Oxygen-B")
	var view AsLeftView
	for _, asked := range []AsLeftRequest{{Seq: edited.Seq - 1}, {Seq: edited.Seq - 2}, {File: string(before)}} {
		was := "Oxygen"
		if asked.Seq == edited.Seq-1 {
			was = "Oxygen-A"
		}
		if code := c.call("POST", "/api/asleft", asked, &view); code != 200 || len(view.Divergences) != 1 ||
			view.Divergences[0].Words[0] != "name was "+was+", is Oxygen-B" {
			t.Errorf("%d: %+v", code, view)
		}
	}
	if code := c.call("POST", "/api/asleft/bring", AsLeftRequest{Seq: edited.Seq - 2, Keys: []string{"point do11-01"}},
		&view); code != 200 || len(view.Divergences) != 0 {
		t.Errorf("%d: %+v", code, view)
	}
	if c.call("GET", "/api/points/do11-01", nil, &point); point.Point.Name != "Oxygen" {
		t.Errorf("it is called %s", point.Point.Name)
	}
	c.call("POST", "/api/undo", nil, &edited)
	if c.call("GET", "/api/points/do11-01", nil, &point); point.Point.Name != "Oxygen-B" {
		t.Errorf("taken back, it is called %s", point.Point.Name)
	}
	var nothing map[string]any
	for _, bad := range []AsLeftRequest{{Seq: 9999}, {File: "{}"}, {Seq: edited.Seq, Keys: []string{"point do11-01"}}} {
		path := "/api/asleft"
		if bad.Keys != nil {
			path += "/bring"
		}
		if code := c.call("POST", path, bad, &nothing); code == 200 || nothing["sentence"] == "" {
			t.Errorf("%+v: %d, %v", bad, code, nothing)
		}
	}
}
