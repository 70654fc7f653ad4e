// Package accounts knows who may use a Ferry that others can reach: people with
// a name, a passphrase and a role, their sessions, and every attempt to sign
// in. They belong to the machine, not to the site.
package accounts

import (
	"crypto/rand"
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
	"unicode/utf8"

	"ferry/internal/core/problem"
)

// Role says what somebody may do; each may do what those before it may.
type Role string

// The roles. Plant may also see to the users.
const (
	Look  Role = "look"  // see everything, change nothing
	Edit  Role = "edit"  // change the site, ask devices, write on the bench
	Plant Role = "plant" // write to a plant, and see to the users
)

// Roles lists them, the least first.
func Roles() []Role { return []Role{Look, Edit, Plant} }

// May reports whether somebody of role r may do what needs another.
func (r Role) May(needed Role) bool {
	return slices.Index(Roles(), r) >= slices.Index(Roles(), needed) && slices.Contains(Roles(), r)
}

// User is one person.
type User struct {
	Name  string    `json:"name"`
	Role  Role      `json:"role"`
	Since time.Time `json:"since"`
	Salt  []byte    `json:"salt"`
	Hash  []byte    `json:"hash"`
}

// Attempt is one attempt to sign in.
type Attempt struct {
	At   time.Time `json:"at"`
	Name string    `json:"name"`
	From string    `json:"from"` // address
	OK   bool      `json:"ok"`
	Why  string    `json:"why,omitempty"`
}

// Bounds of a passphrase and a name, in octets.
const (
	leastPassphrase = 8
	mostPassphrase  = 1024
	mostName        = 64
)

// The life of a session: without a request, and at most.
const (
	idle    = 8 * time.Hour
	longest = 24 * time.Hour
)

const (
	usersFile    = "users.json"
	attemptsFile = "signins.jsonl"
	// mostAttempts bounds the record of attempts on the disk, in octets; as much
	// again of older ones is kept beside it.
	mostAttempts = 1 << 20
)

// Accounts are the users of one data folder.
type Accounts struct {
	dir   string
	now   func() time.Time
	turns chan struct{}
	queue chan struct{}

	mu       sync.Mutex
	users    []User
	sessions map[string]*session // by their secret
	failures map[string]*failure // by name and address, and by address
}

type session struct {
	user        string
	began, seen time.Time
}

// failure is how often somebody has failed in a row.
type failure struct {
	count int
	until time.Time
}

// Open reads the users of a data folder; there may be none.
func Open(dir string) (*Accounts, error) {
	a := &Accounts{dir: dir, now: time.Now, turns: make(chan struct{}, atOnce),
		queue:    make(chan struct{}, atOnce+waiting),
		sessions: map[string]*session{}, failures: map[string]*failure{}}
	data, err := os.ReadFile(filepath.Join(dir, usersFile))
	if errors.Is(err, fs.ErrNotExist) {
		return a, nil
	}
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(data, &a.users); err != nil {
		return nil, fmt.Errorf("%s cannot be read (%w): put a copy of it back, or remove it to begin with a new "+
			"first user", usersFile, err)
	}
	return a, nil
}

// CheckPassphrase says what is wrong with a passphrase.
func CheckPassphrase(text string) error {
	switch {
	case len(text) < leastPassphrase:
		return problem.New("passphrase", fmt.Sprintf("The passphrase is shorter than %d characters.", leastPassphrase),
			"Take several words.")
	case len(text) > mostPassphrase:
		return problem.New("passphrase", fmt.Sprintf("The passphrase is longer than %d characters.", mostPassphrase),
			"Take a shorter one: nobody could type it.")
	}
	return nil
}

// Users lists the users without their secrets.
func (a *Accounts) Users() []User {
	a.mu.Lock()
	defer a.mu.Unlock()
	list := slices.Clone(a.users)
	for i := range list {
		list[i].Salt, list[i].Hash = nil, nil
	}
	return list
}

// Put adds a user, or changes the role of one and, if it is not empty, the
// passphrase. Sessions of a user that is changed end.
func (a *Accounts) Put(name string, role Role, passphrase string) error {
	name = strings.TrimSpace(name)
	if name == "" || len(name) > mostName || !utf8.ValidString(name) ||
		strings.ContainsFunc(name, func(r rune) bool { return r < ' ' || r == 0x7F }) {
		return problem.New("name", fmt.Sprintf("A name has 1 to %d plain characters.", mostName),
			"Choose another name.")
	}
	if !slices.Contains(Roles(), role) {
		return problem.New("role", fmt.Sprintf("%q is no role.", role), "Give look, edit or plant.")
	}
	var salt, hash []byte
	if passphrase != "" {
		if err := CheckPassphrase(passphrase); err != nil {
			return err
		}
		salt = make([]byte, 16)
		rand.Read(salt)
		hash = hashOf(passphrase, salt)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	users := slices.Clone(a.users)
	at := slices.IndexFunc(users, func(u User) bool { return strings.EqualFold(u.Name, name) })
	switch {
	case at < 0 && passphrase == "":
		return problem.New("passphrase", "A new user needs a passphrase.", "Enter one.").At(name)
	case at < 0:
		users = append(users, User{Name: name, Role: role, Since: a.now().UTC(), Salt: salt, Hash: hash})
	default:
		users[at].Role = role
		if passphrase != "" {
			users[at].Salt, users[at].Hash = salt, hash
		}
	}
	if err := a.keep(users); err != nil {
		return err
	}
	a.endSessions(name)
	return nil
}

// Remove takes a user out; the last one who may see to the users stays.
func (a *Accounts) Remove(name string) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	users := slices.DeleteFunc(slices.Clone(a.users), func(u User) bool { return u.Name == name })
	if len(users) == len(a.users) {
		return problem.New("gone", "There is no such user.", "Reload to see who there is.").At(name)
	}
	if err := a.keep(users); err != nil {
		return err
	}
	a.endSessions(name)
	return nil
}

// keep writes the users to the disk. The lock is held.
func (a *Accounts) keep(users []User) error {
	if !slices.ContainsFunc(users, func(u User) bool { return u.Role == Plant }) {
		return problem.New("last", "Nobody would be left who may see to the users.",
			"Give another user the role plant first.")
	}
	data, err := json.MarshalIndent(users, "", "  ")
	if err != nil {
		return err
	}
	path := filepath.Join(a.dir, usersFile)
	if err := writeWhole(path, data); err != nil {
		return problem.New("disk", "The users could not be kept: "+err.Error()+".", "Look at the disk.")
	}
	a.users = users
	return nil
}

// writeWhole writes a file that is there whole or not at all, for its owner's
// eyes.
func writeWhole(path string, data []byte) error {
	f, err := os.OpenFile(path+".new", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}

func (s *session) over(now time.Time) bool {
	return now.Sub(s.seen) > idle || now.Sub(s.began) > longest
}

// Of returns the user of a session, if it has not ended. used says that it is
// being used, and not only looked at.
func (a *Accounts) Of(secret string, used bool) (User, bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	s := a.sessions[secret]
	if s == nil {
		return User{}, false
	}
	now := a.now()
	if s.over(now) {
		delete(a.sessions, secret)
		return User{}, false
	}
	if used {
		s.seen = now
	}
	i := slices.IndexFunc(a.users, func(u User) bool { return u.Name == s.user })
	if i < 0 {
		return User{}, false
	}
	return User{Name: a.users[i].Name, Role: a.users[i].Role, Since: a.users[i].Since}, true
}

// SignOut ends a session.
func (a *Accounts) SignOut(secret string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	delete(a.sessions, secret)
}

// endSessions ends those of a user. The lock is held.
func (a *Accounts) endSessions(name string) {
	for key, s := range a.sessions {
		if strings.EqualFold(s.user, name) {
			delete(a.sessions, key)
		}
	}
}
