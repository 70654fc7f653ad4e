package sites

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	_ "ferry/internal/families"

	"ferry/internal/core/site"
)

// TestSites: what is begun is there after a restart, what is removed is kept
// aside, and neither the open one nor the first can be removed.
func TestSites(t *testing.T) {
	dir := t.TempDir()
	s, err := Read(dir)
	if err != nil {
		t.Fatal(err)
	}
	id, err := s.Add(context.Background(), site.New("x"), "Smolt house")
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Choose(id, "Hatchery"); err != nil {
		t.Fatal(err)
	}
	again, err := Read(dir)
	if err != nil {
		t.Fatal(err)
	}
	open, folder := again.Open()
	list, _ := again.List("Smolt house")
	if open != id || filepath.Base(folder) != id || len(list) != 2 || list[0].Name != "Hatchery" {
		t.Errorf("open %q in %s, %+v", open, folder, list)
	}
	for _, each := range []string{id, "", "../..", "0123456789ab"} {
		if kept, err := again.Remove(each); err == nil {
			t.Errorf("%q is removed to %s", each, kept)
		}
	}
	if _, err := again.Add(context.Background(), site.New("x"), "  "); err == nil {
		t.Error("a site without a name is begun")
	}
	if err := again.Choose("", "Smolt house"); err != nil {
		t.Fatal(err)
	}
	content, err := again.Content(context.Background(), id)
	if err != nil || content.Name != "Smolt house" {
		t.Fatalf("%+v, %v", content, err)
	}
	kept, err := again.Remove(id)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(filepath.Join(kept, "site.db")); err != nil {
		t.Error(err)
	}
	// A list that is damaged is made anew from the folders that are there.
	if _, err := again.Add(context.Background(), site.New("x"), "Third"); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, fileName), []byte("{"), 0o644); err != nil {
		t.Fatal(err)
	}
	if again, err = Read(dir); err != nil {
		t.Fatal(err)
	}
	if list, open := again.List(""); len(list) != 2 || open != "" {
		t.Errorf("from the folders: %+v, open %q", list, open)
	}
}
