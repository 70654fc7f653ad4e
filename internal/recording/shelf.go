package recording

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/problem"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
)

// Shelf keeps the recordings of a site in a folder: the files as they came, and while
// the program runs what was found in them.
type Shelf struct {
	dir string
	mu  sync.Mutex
	all []*Kept
}

// Label is what is known of a recording without reading it.
type Label struct {
	ID     string         `json:"id"`
	Name   string         `json:"name"`
	At     time.Time      `json:"at"` // when it came here
	Octets int64          `json:"octets"`
	Serial *serial.Format `json:"serial,omitempty"`
}

// Kept is one recording of the shelf.
type Kept struct {
	Label
	path string

	read atomic.Int64 // octets

	// mu is held to read by all who look into the index, which stays as it is once it is
	// there, and to write by who makes or drops it.
	mu      sync.RWMutex
	reading bool
	done    bool
	failed  string
	result  Result
	index   *Index
	talks   []TalkView
	stop    context.CancelFunc
	ended   chan struct{} // closed when the reading has ended
	filters filters
}

// Bounds of the shelf.
const (
	MostOctets = 8 << 30 // of one recording
	mostKept   = 100
)

// OpenShelf opens a folder, which it makes where there is none.
func OpenShelf(dir string) (*Shelf, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	s := &Shelf{dir: dir}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		name := e.Name()
		if strings.HasPrefix(name, "rows-") || strings.HasPrefix(name, "octets-") || strings.HasSuffix(name, ".part") {
			if err := os.Remove(filepath.Join(dir, name)); err != nil { // of a program that was killed
				return nil, err
			}
			continue
		}
		id, ok := strings.CutSuffix(name, ".json")
		if !ok {
			continue
		}
		data, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			return nil, err
		}
		k := &Kept{path: filepath.Join(dir, id+".capture")}
		if json.Unmarshal(data, &k.Label) != nil || k.ID != id {
			continue // not one of ours
		}
		s.all = append(s.all, k)
	}
	slices.SortFunc(s.all, func(a, b *Kept) int { return a.At.Compare(b.At) })
	return s, nil
}

// Take keeps what comes as a recording of the name, and begins to read it.
func (s *Shelf) Take(name string, from io.Reader, format *serial.Format, at time.Time, of *site.Site) (*Kept, error) {
	s.mu.Lock()
	full := len(s.all) >= mostKept
	s.mu.Unlock()
	if full {
		return nil, problem.New("full", fmt.Sprintf("%d recordings are kept already.", mostKept),
			"Remove one that is no longer needed.")
	}
	part, err := os.CreateTemp(s.dir, "*.part")
	if err != nil {
		return nil, err
	}
	n, err := io.Copy(part, io.LimitReader(from, MostOctets+1))
	err = errors.Join(err, part.Close())
	if err == nil && n > MostOctets {
		err = problem.New("too-large", "The recording is larger than 8 GiB.", "Part it, or record less.")
	}
	if err != nil {
		return nil, errors.Join(err, os.Remove(part.Name()))
	}
	id := strings.TrimSuffix(filepath.Base(part.Name()), ".part")
	k := &Kept{Label: Label{ID: id, Name: name, At: at.UTC(), Octets: n, Serial: format},
		path: filepath.Join(s.dir, id+".capture")}
	data, err := json.Marshal(k.Label)
	if err == nil {
		err = os.Rename(part.Name(), k.path)
	}
	if err == nil {
		err = os.WriteFile(filepath.Join(s.dir, id+".json"), data, 0o600)
	}
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	s.all = append(s.all, k)
	s.mu.Unlock()
	k.Begin(of)
	return k, nil
}

// All lists the recordings, the newest first.
func (s *Shelf) All() []*Kept {
	s.mu.Lock()
	defer s.mu.Unlock()
	list := slices.Clone(s.all)
	slices.Reverse(list)
	return list
}

// Named finds a recording.
func (s *Shelf) Named(id string) (*Kept, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, k := range s.all {
		if k.ID == id {
			return k, nil
		}
	}
	return nil, problem.New("gone", "This recording is no longer kept.", "Open the file again.").At(id)
}

// Remove forgets a recording, and removes its file.
func (s *Shelf) Remove(id string) error {
	k, err := s.Named(id)
	if err != nil {
		return err
	}
	k.forget()
	s.mu.Lock()
	s.all = slices.DeleteFunc(s.all, func(o *Kept) bool { return o == k })
	s.mu.Unlock()
	return errors.Join(os.Remove(filepath.Join(s.dir, id+".json")), os.Remove(k.path))
}

// Close forgets what was found.
func (s *Shelf) Close() {
	for _, k := range s.All() {
		k.forget()
	}
}

// forget ends a reading, and drops what it found.
func (k *Kept) forget() {
	k.mu.Lock()
	if k.reading {
		k.stop()
		ended := k.ended
		k.mu.Unlock()
		<-ended
		k.mu.Lock()
	}
	defer k.mu.Unlock()
	if k.index != nil {
		k.index.Close()
	}
	k.index, k.done, k.talks = nil, false, nil
	k.filters.drop()
}

// Begin reads the recording, to be judged against a site, unless that was done or is
// being done.
func (k *Kept) Begin(of *site.Site) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.reading || k.done {
		return
	}
	ctx, cancel := context.WithCancel(context.Background())
	k.reading, k.failed, k.stop, k.ended = true, "", cancel, make(chan struct{})
	k.read.Store(0)
	go k.follow(ctx, of)
}

// Again reads it anew, against the site as it is now.
func (k *Kept) Again(of *site.Site) {
	k.forget()
	k.Begin(of)
}

// counted counts the octets that were read.
type counted struct {
	from io.Reader
	k    *Kept
}

func (c counted) Read(b []byte) (int, error) {
	n, err := c.from.Read(b)
	c.k.read.Add(int64(n))
	return n, err
}

// glance is how often what was found so far is looked at while it is read.
const glance = 700 * time.Millisecond

// watcher has the findings so far looked at now and then.
type watcher struct {
	*Index
	next time.Time
	look func()
}

func (w *watcher) Packet(p *capture.Packet) {
	if p.Number%512 == 0 {
		if now := time.Now(); now.After(w.next) {
			w.look()
			w.next = time.Now().Add(glance)
		}
	}
}

// follow reads to the end.
func (k *Kept) follow(ctx context.Context, of *site.Site) {
	err := k.all(ctx, of)
	k.mu.Lock()
	defer k.mu.Unlock()
	k.reading = false
	if err != nil && ctx.Err() == nil {
		k.failed = err.Error()
	}
	k.done = ctx.Err() == nil
	k.stop()
	close(k.ended)
}

func (k *Kept) all(ctx context.Context, of *site.Site) error {
	f, err := os.Open(k.path)
	if err != nil {
		return err
	}
	defer f.Close() // it was only read
	index, err := NewIndex(filepath.Dir(k.path))
	if err != nil {
		return err
	}
	w := &watcher{Index: index, next: time.Now().Add(glance)}
	r := New(of, w)
	w.look = func() {
		now, talks := r.Now(), r.Talks()
		k.mu.Lock()
		k.result, k.talks = now, talks
		k.mu.Unlock()
	}
	err = r.Read(ctx, Source{Name: k.Name, From: counted{f, k}, Serial: k.Serial})
	result := r.Finish()
	if err == nil {
		err = index.Settle()
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if err != nil || ctx.Err() != nil {
		index.Close()
		return err
	}
	k.result, k.talks, k.index = result, r.Talks(), index
	return nil
}
