// Package internal_test holds the rule that says who may know whom.
package internal_test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// may lists for each folder of this tree what of Ferry it may import beside
// core, its own folder and what lies below it. A star on both sides stands for
// one name, so that a family of protocols knows no other; on the right alone,
// for any.
var may = map[string]string{
	"accounts":        "",
	"api/gen":         "api",
	"api":             "accounts bench certs field field/ports files lookout peer recording relay shelf sites store strips vault",
	"bench":           "pipe precise shelf/access",
	"bench/*":         "bench certs target/* wire/* wire/isotcp",
	"certs":           "",
	"core":            "",
	"field":           "",
	"field/*":         "certs field field/ports precise target/* wire/* wire/isotcp",
	"field/fieldtest": "bench field",
	"field/ports":     "pipe",
	"families":        "bench/* field/*",
	"files":           "",
	"lookout":         "field",
	"peer":            "files",
	"pipe":            "",
	"precise":         "",
	"recording":       "files",
	"relay":           "field/ports",
	"shelf":           "files",
	"shelf/access":    "",
	"sites":           "store",
	"store":           "",
	"strips":          "field store",
	"target/*":        "precise wire/* wire/isotcp",
	"vault":           "",
	"wire/*":          "wire/isotcp",
	"wire/isotcp":     "",
}

// world is what of the standard library opens, listens or runs.
var world = []string{"net", "net/http", "os", "os/exec", "database/sql", "syscall", "log"}

// computes are the modules of others that core may use: they compute, and touch
// nothing of the world.
var computes = []string{"github.com/expr-lang/expr", "golang.org/x/text/encoding/charmap"}

// TestImports: every folder imports what it may, and nothing else of Ferry.
func TestImports(t *testing.T) {
	checked := 0
	err := filepath.WalkDir(".", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		folder := filepath.ToSlash(filepath.Dir(path))
		rule, star, ok := ruleOf(folder)
		if !ok {
			t.Errorf("%s: the folder is in no rule: say in this test what it may import", path)
			return nil
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		checked++
		for _, spec := range file.Imports {
			name, _ := strconv.Unquote(spec.Path.Value)
			if core := folder == "core" || strings.HasPrefix(folder, "core/"); core {
				first, _, _ := strings.Cut(name, "/")
				foreign := strings.Contains(first, ".") && !slices.ContainsFunc(computes,
					func(module string) bool { return name == module || strings.HasPrefix(name, module+"/") })
				if foreign || slices.Contains(world, name) {
					t.Errorf("%s imports %s: core computes, with the standard library and few others, and does no I/O",
						path, name)
				}
			}
			name, ours := strings.CutPrefix(name, "ferry/internal/")
			if !ours || name == folder || strings.HasPrefix(name, "core/") {
				continue
			}
			if strings.HasPrefix(name, folder+"/") && folder != "field" && folder != "bench" ||
				slices.ContainsFunc(strings.Fields(rule),
					func(allowed string) bool { return allows(allowed, star, name) }) {
				continue
			}
			t.Errorf("%s imports %s, and may import of Ferry core and %q alone", path, name, rule)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if checked < 100 {
		t.Fatalf("only %d files checked", checked)
	}
}

func allows(allowed, star, name string) bool {
	if folder, any := strings.CutSuffix(allowed, "/*"); any && star == "" {
		return strings.HasPrefix(name, folder+"/")
	}
	return name == strings.ReplaceAll(allowed, "*", star)
}

// ruleOf finds the rule of a folder: its own, that of its kind, or that of the
// nearest above it, and what the star stands for.
func ruleOf(folder string) (rule, star string, ok bool) {
	for at := folder; at != "."; at = filepath.ToSlash(filepath.Dir(at)) {
		if rule, ok := may[at]; ok {
			return rule, "", true
		}
		if rule, ok := may[filepath.ToSlash(filepath.Dir(at))+"/*"]; ok {
			return rule, filepath.Base(at), true
		}
	}
	return "", "", false
}

// TestReadmeNamesEveryFolder: who looks for something finds it there.
func TestReadmeNamesEveryFolder(t *testing.T) {
	text, err := os.ReadFile("../README.md")
	if err != nil {
		t.Fatal(err)
	}
	folders, err := os.ReadDir(".")
	if err != nil {
		t.Fatal(err)
	}
	for _, folder := range folders {
		if folder.IsDir() && !strings.Contains(string(text), "internal/"+folder.Name()+"/") {
			t.Errorf("README.md says nothing of internal/%s", folder.Name())
		}
	}
}
