// Package vault keeps the secrets and files that the settings of a site name.
// They lie apart from the site, one file each that only its owner can read, and
// no site file, journal or backup holds them. A file can be had again; a secret
// is given to connections alone.
package vault

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
)

// Vault is the folder in which they lie. The zero Vault keeps nothing.
type Vault struct{ dir string }

// Bounds of what is kept: octets of one secret and of one file, and how many of
// either.
const (
	MostSecret = 4096
	MostFile   = 64 << 20
	mostKept   = 500
)

// Kept is one secret or file, as it may be shown.
type Kept struct {
	Kind protocol.Kind `json:"kind" jsonschema:"enum=secret,enum=file"`
	Name string        `json:"name"`
	// Octets is the size of a file; that of a secret is not told.
	Octets int64 `json:"octets,omitempty"`
	// ChangedMs is when it was put there, in milliseconds since 1970.
	ChangedMs int64 `json:"changedMs"`
}

// In is the vault beside the data of a site, which need not exist yet.
func In(dir string) Vault { return Vault{filepath.Join(dir, "kept")} }

// wellNamed is what a secret or a file may be called: no way out of the folder, and a
// file name on every system.
var wellNamed = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9 _.-]{0,62}[A-Za-z0-9]$|^[A-Za-z0-9]$`)

// CheckName says why something cannot be kept under a name; nil if it can.
func CheckName(name string) error {
	if !wellNamed.MatchString(name) || strings.Contains(name, "..") {
		return problem.New("bad-name", fmt.Sprintf("%q is no name to keep it under.", name),
			"Use up to 64 letters, digits, blanks, hyphens, underscores and points, with a letter or digit at both ends.")
	}
	return nil
}

func (v Vault) path(kind protocol.Kind, name string) (string, error) {
	if v.dir == "" {
		return "", problem.New("no-vault", "Nothing is kept here.", "Run Ferry with a folder for its data.")
	}
	if kind != protocol.Secret && kind != protocol.File {
		return "", problem.New("bad-kind", fmt.Sprintf("%q is not kept: secrets and files are.", kind), "")
	}
	// The kind begins the name, so that none is one that a system has for itself.
	return filepath.Join(v.dir, string(kind)+" "+name), CheckName(name)
}

// Put keeps content under a name, in the place of what was kept under it.
func (v Vault) Put(kind protocol.Kind, name string, content []byte) error {
	path, err := v.path(kind, name)
	if err != nil {
		return err
	}
	most := MostFile
	if kind == protocol.Secret {
		most = MostSecret
	}
	if len(content) == 0 || len(content) > most {
		return problem.New("bad-size", fmt.Sprintf("It has %d octets: 1 to %d are kept.", len(content), most), "").At(name)
	}
	if list, err := v.List(); err != nil {
		return err
	} else if len(list) >= mostKept && !slices.ContainsFunc(list,
		func(k Kept) bool { return k.Kind == kind && k.Name == name }) {
		return problem.New("too-many", fmt.Sprintf("%d secrets and files are kept already.", len(list)),
			"Remove those that no setting names.")
	}
	if err := os.MkdirAll(v.dir, 0o700); err != nil {
		return err
	}
	return replace(path, content)
}

// replace writes a file whole or not at all.
func replace(path string, content []byte) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".new-*") // which only its owner can read
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	err = errors.Join(err, f.Sync(), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	if folder, err := os.Open(filepath.Dir(path)); err == nil {
		_ = folder.Sync() // not every system lets a folder be synchronised
		_ = folder.Close()
	}
	return nil
}

// Get returns what is kept under a name.
func (v Vault) Get(kind protocol.Kind, name string) ([]byte, error) {
	path, err := v.path(kind, name)
	if err != nil {
		return nil, err
	}
	content, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, problem.New("not-kept", fmt.Sprintf("The %s %q is not on this machine.", kind, name),
			"Enter it here: a site file names it and does not hold it.").At(name)
	}
	return content, err
}

// Remove forgets what is kept under a name.
func (v Vault) Remove(kind protocol.Kind, name string) error {
	path, err := v.path(kind, name)
	if err != nil {
		return err
	}
	if err = os.Remove(path); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// List tells what is kept, by name.
func (v Vault) List() ([]Kept, error) {
	list := []Kept{}
	if v.dir == "" {
		return list, nil
	}
	files, err := os.ReadDir(v.dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for _, f := range files {
		kind, name, _ := strings.Cut(f.Name(), " ")
		k := Kept{Kind: protocol.Kind(kind), Name: name}
		if path, err := v.path(k.Kind, k.Name); err != nil || filepath.Base(path) != f.Name() {
			continue // not put here by Put
		}
		info, err := f.Info()
		if err != nil {
			continue // removed in between
		}
		if k.ChangedMs = info.ModTime().UnixMilli(); k.Kind == protocol.File {
			k.Octets = info.Size()
		}
		list = append(list, k)
	}
	return list, nil
}
