// Package sites keeps several sites on one machine: the folder of the data is
// that of the first, and each of the others has one of its own below it.
package sites

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"ferry/internal/core/problem"
	"ferry/internal/core/site"
	"ferry/internal/store"
)

// Sites are those of one folder.
type Sites struct {
	dir string

	mu   sync.Mutex
	list listed
}

// listed is what is kept in shelf.json.
type listed struct {
	// Open is the id of the site that is open; "" is the one in the folder itself.
	Open  string `json:"open"`
	Sites []Site `json:"sites"`
}

// Site is one of them.
type Site struct {
	ID   string `json:"id"` // "" for the one in the folder itself
	Name string `json:"name"`
	// Opened is when it was open last, in milliseconds since 1970.
	Opened int64 `json:"opened"`
}

// most bounds the sites of one folder.
const most = 500

const (
	fileName = "shelf.json"
	below    = "sites"
	removed  = "removed"
)

// Read reads what is kept of the sites of a folder. What cannot be read is made
// anew from the folders that are there.
func Read(dir string) (*Sites, error) {
	s := &Sites{dir: dir}
	data, err := os.ReadFile(filepath.Join(dir, fileName))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if err != nil || json.Unmarshal(data, &s.list) != nil {
		s.list = listed{}
	}
	s.list.Sites = slices.DeleteFunc(s.list.Sites, func(each Site) bool { return !s.there(each.ID) })
	if !slices.ContainsFunc(s.list.Sites, func(each Site) bool { return each.ID == "" }) {
		s.list.Sites = append([]Site{{Name: "First site"}}, s.list.Sites...)
	}
	folders, err := os.ReadDir(filepath.Join(dir, below))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for _, f := range folders {
		if id := f.Name(); f.IsDir() && wellFormed(id) && s.there(id) && !slices.ContainsFunc(s.list.Sites,
			func(each Site) bool { return each.ID == id }) {
			s.list.Sites = append(s.list.Sites, Site{ID: id, Name: "Site " + id})
		}
	}
	if !slices.ContainsFunc(s.list.Sites, func(each Site) bool { return each.ID == s.list.Open }) {
		s.list.Open = ""
	}
	return s, nil
}

// wellFormed reports whether an id is one that was given here, and no way out of
// the folder.
func wellFormed(id string) bool {
	return len(id) == 12 && strings.Trim(id, "0123456789abcdef") == ""
}

func (s *Sites) there(id string) bool {
	if id == "" {
		return true
	}
	info, err := os.Stat(s.folder(id))
	return wellFormed(id) && err == nil && info.IsDir()
}

func (s *Sites) folder(id string) string {
	if id == "" {
		return s.dir
	}
	return filepath.Join(s.dir, below, id)
}

// keep writes the list, whole or not at all. The lock is held.
func (s *Sites) keep() error {
	data, err := json.MarshalIndent(s.list, "", "  ")
	if err != nil {
		return err
	}
	f, err := os.CreateTemp(s.dir, fileName+".*")
	if err != nil {
		return err
	}
	_, err = f.Write(append(data, '\n'))
	err = errors.Join(err, f.Sync(), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), filepath.Join(s.dir, fileName))
	}
	if err != nil {
		_ = os.Remove(f.Name()) // what is left of it is of no use
	}
	return err
}

// Open returns the id and the folder of the site that is open.
func (s *Sites) Open() (id, folder string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.list.Open, s.folder(s.list.Open)
}

// List returns all sites, with the name that the open one has now.
func (s *Sites) List(name string) (list []Site, open string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := range s.list.Sites {
		if s.list.Sites[i].ID == s.list.Open {
			s.list.Sites[i].Name = name
		}
	}
	return slices.Clone(s.list.Sites), s.list.Open
}

// Choose makes a site the one that is open from the next start on. name is that
// of the one that is open now.
func (s *Sites) Choose(id, name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	at := slices.IndexFunc(s.list.Sites, func(each Site) bool { return each.ID == id })
	if at < 0 || !s.there(id) {
		return problem.New("gone", "There is no such site any more.", "Look at the list again.")
	}
	before := s.list
	before.Sites = slices.Clone(s.list.Sites)
	for i := range s.list.Sites {
		if s.list.Sites[i].ID == s.list.Open {
			s.list.Sites[i].Name = name
		}
	}
	s.list.Open, s.list.Sites[at].Opened = id, time.Now().UnixMilli()
	if err := s.keep(); err != nil {
		s.list = before
		return err
	}
	return nil
}

// Add keeps a site as a new one under a name, with a journal of its own.
func (s *Sites) Add(ctx context.Context, content *site.Site, name string) (id string, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if name = strings.TrimSpace(name); name == "" || len(name) > 200 {
		return "", problem.New("no-name", "A site needs a name of up to 200 characters.", "Give it one.")
	}
	if len(s.list.Sites) >= most {
		return "", problem.New("too-many", fmt.Sprintf("There are %d sites.", most),
			"Remove those that are done, or begin another data folder.")
	}
	var b [6]byte
	_, _ = rand.Read(b[:]) // it never fails
	id = hex.EncodeToString(b[:])
	copied := *content
	copied.Name = name
	st, err := store.Open(ctx, s.folder(id), func() *site.Site { return &copied })
	if err == nil {
		err = st.Close()
	}
	if err == nil {
		s.list.Sites = append(s.list.Sites, Site{ID: id, Name: name})
		if err = s.keep(); err != nil {
			s.list.Sites = s.list.Sites[:len(s.list.Sites)-1]
		}
	}
	if err != nil {
		_ = os.RemoveAll(s.folder(id)) // nothing of it is anybody's yet
		return "", err
	}
	return id, nil
}

// Content reads a site that is not open.
func (s *Sites) Content(ctx context.Context, id string) (*site.Site, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.there(id) || id == s.list.Open {
		return nil, problem.New("gone", "There is no such site to copy.", "Look at the list again.")
	}
	st, err := store.Open(ctx, s.folder(id), func() *site.Site { return nil })
	if err != nil {
		return nil, err
	}
	content, _ := st.Site()
	return content, st.Close()
}

// Remove takes a site out of the list. Its folder is kept under another name,
// for whoever removed the wrong one.
func (s *Sites) Remove(id string) (kept string, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	at := slices.IndexFunc(s.list.Sites, func(each Site) bool { return each.ID == id })
	switch {
	case at < 0:
		return "", problem.New("gone", "There is no such site any more.", "Look at the list again.")
	case id == s.list.Open:
		return "", problem.New("open", "The site is open.", "Open another one first.")
	case id == "":
		return "", problem.New("first", "The first site lies in the data folder itself and stays.",
			"Begin another data folder to be without it.")
	}
	to := filepath.Join(s.dir, removed, id+"-"+time.Now().Format("20060102-150405"))
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return "", err
	}
	if err := os.Rename(s.folder(id), to); err != nil {
		return "", err
	}
	s.list.Sites = slices.Delete(s.list.Sites, at, at+1)
	return to, s.keep()
}
