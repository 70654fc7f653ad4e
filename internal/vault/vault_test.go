package vault

import (
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"ferry/internal/core/protocol"
)

func TestKeeps(t *testing.T) {
	v := In(t.TempDir())
	if _, err := v.Get(protocol.Secret, "phrase"); err == nil || !strings.Contains(err.Error(), "not on this machine") {
		t.Errorf("what is not there is missed as %v", err)
	}
	for _, content := range []string{"first", "salmon"} {
		if err := v.Put(protocol.Secret, "phrase", []byte(content)); err != nil {
			t.Fatal(err)
		}
	}
	if err := v.Put(protocol.File, "phrase", []byte("a file of the same name")); err != nil {
		t.Fatal(err)
	}
	if got, err := v.Get(protocol.Secret, "phrase"); err != nil || string(got) != "salmon" {
		t.Errorf("kept is %q, %v", got, err)
	}
	list, err := v.List()
	if err != nil || len(list) != 2 || list[0].Kind != protocol.File || list[0].Octets != 23 || list[1].Octets != 0 {
		t.Errorf("listed are %+v, %v", list, err)
	}
	if info, err := os.Stat(filepath.Join(v.dir, "secret phrase")); err != nil ||
		runtime.GOOS != "windows" && info.Mode().Perm() != 0o600 {
		t.Errorf("a secret can be read by others: %v, %v", info.Mode(), err)
	}
	if err := v.Remove(protocol.Secret, "phrase"); err != nil {
		t.Error(err)
	}
	if err := v.Remove(protocol.Secret, "phrase"); err != nil {
		t.Errorf("removing what is gone: %v", err)
	}
	if list, _ := v.List(); len(list) != 1 {
		t.Errorf("left are %+v", list)
	}
}

// TestNames: a name is no way out of the folder, and nothing but secrets and
// files is kept.
func TestNames(t *testing.T) {
	v := In(t.TempDir())
	for _, name := range []string{"", ".", "..", "../phrase", "a/b", `a\b`, ".hidden", "ends.", "a..b", "a\x00b", "Öl",
		strings.Repeat("a", 65)} {
		if err := v.Put(protocol.Secret, name, []byte("x")); err == nil {
			t.Errorf("kept under %q", name)
		}
		if _, err := v.Get(protocol.File, name); err == nil {
			t.Errorf("read under %q", name)
		}
	}
	if err := v.Put(protocol.Text, "a", []byte("x")); err == nil {
		t.Error("a text was kept")
	}
	if err := v.Put(protocol.Secret, "a", nil); err == nil {
		t.Error("an empty secret was kept")
	}
	if err := v.Put(protocol.Secret, "a", make([]byte, MostSecret+1)); err == nil {
		t.Error("a secret without bounds was kept")
	}
	if err := (Vault{}).Put(protocol.Secret, "a", []byte("x")); err == nil {
		t.Error("the zero vault keeps something")
	}
}
