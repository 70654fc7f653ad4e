package internal_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// familyWords are the words of each family that only its folders say, beside its
// name. A new family is found by its folder, and adds its own here.
var familyWords = map[string]string{
	"modbus":   `modbus|holding registers?\b|\bcoils?\b|discrete inputs?\b|input registers?\b|\bexception codes?\b|\brtu[ -]|function codes?\b|\b[34]0\d{3,4}\b|(?-i:"(hr|ir|co)\d*")|"di\d+"|\bhr\d|\bhr:|such as (hr|ir|co)\b`,
	"mqtt":     `mqtt|sparkplug`,
	"enip":     `\benip|ethernet/ip|\bcip\b|forward open|list identity`,
	"iec61850": `iec ?61850`,
	"dnp3":     `\bdnp ?3|integrity poll|class [0-3] poll`,
	"opcua":    `opc[ -]?ua\b|opc\.tcp|monitored ?item`,
	"bacnet":   `\bbacnet|who-is|\bcov\b`,
	"blocktcp": `block-?tcp|iso-on-tcp|process-image|block access|"db\d|\bdb\d+:\d`,
}

// TestNoFamilyIsNamed: nothing outside the folders of a family says its name or
// its words, in Go or in the pages. Tests, and the list of what is built in, may.
func TestNoFamilyIsNamed(t *testing.T) {
	folders, err := os.ReadDir("core/family")
	if err != nil {
		t.Fatal(err)
	}
	families := map[string]*regexp.Regexp{}
	for _, folder := range folders {
		words, known := familyWords[folder.Name()]
		if !known {
			t.Errorf("the family %s has no words here that only its folders may say", folder.Name())
		}
		families[folder.Name()] = regexp.MustCompile(`(?i)` + regexp.QuoteMeta(folder.Name()) + `\b|` + words)
	}
	said := 0
	for _, root := range []string{".", "../cmd", "../web/src"} {
		err := filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
			if err != nil || entry.IsDir() ||
				!slices.Contains([]string{".go", ".ts", ".tsx", ".css"}, filepath.Ext(path)) ||
				strings.HasSuffix(path, "_test.go") || filepath.ToSlash(path) == "families/families.go" {
				return err
			}
			data, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			for name, words := range families {
				if filepath.Base(filepath.Dir(path)) == name {
					continue
				}
				for i, line := range strings.Split(string(data), "\n") {
					if at := words.FindString(line); at != "" {
						t.Errorf("%s:%d says %q, a word of %s", path, i+1, at, name)
					}
				}
			}
			said++
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if said < 200 {
		t.Fatalf("only %d files were read", said)
	}
}

// TestFoldersAreNamed: the README and what it links to say what every folder of
// code is for. Those of a family have its name.
func TestFoldersAreNamed(t *testing.T) {
	var said string
	for _, doc := range []string{"../README.md", "../docs/architecture.md"} {
		data, err := os.ReadFile(doc)
		if err != nil {
			t.Fatal(err)
		}
		said += string(data)
	}
	err := filepath.WalkDir(".", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || !entry.IsDir() || path == "." {
			return err
		}
		path = filepath.ToSlash(path)
		if _, family := familyWords[entry.Name()]; family || strings.Contains(path, "testdata") ||
			strings.HasPrefix(path, "api/dist") {
			return filepath.SkipDir
		}
		if files, err := filepath.Glob(filepath.Join(path, "*.go")); err != nil || len(files) == 0 {
			return err
		}
		if !regexp.MustCompile(`(?m)\b` + regexp.QuoteMeta(path) + `\b`).MatchString(said) {
			t.Errorf("no document says what internal/%s is for", path)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}
