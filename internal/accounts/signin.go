package accounts

import (
	"bytes"
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/argon2"

	"ferry/internal/core/problem"
)

// Argon2id with 19 MiB, two passes and one lane (RFC 9106; the second choice of
// its clause 4 scaled down to what may be asked by several at once).
const (
	argonPasses = 2
	argonKiB    = 19 * 1024
	argonLanes  = 1
	argonOctets = 32
)

// atOnce is how many passphrases are judged at a time, waiting how many more may
// wait for that.
const (
	atOnce  = 2
	waiting = 8
)

func hashOf(passphrase string, salt []byte) []byte {
	return argon2.IDKey([]byte(passphrase), salt, argonPasses, argonKiB, argonLanes, argonOctets)
}

// noSalt is hashed with where there is no such user, so that it takes as long.
var noSalt = []byte("nobody has this one")

// SignIn begins a session and returns its secret. Who fails is made to wait
// longer each time.
func (a *Accounts) SignIn(name, passphrase, from string) (secret string, err error) {
	name = strings.TrimSpace(name)
	if len(name) > mostName || len(passphrase) > mostPassphrase {
		return "", a.note(Attempt{Name: name[:min(len(name), mostName)], From: from, Why: "longer than any"}, wrong())
	}
	if left := a.held(name, from); left > 0 {
		return "", a.note(Attempt{Name: name, From: from, Why: "too soon"}, tooSoon(left))
	}
	select {
	case a.queue <- struct{}{}:
		defer func() { <-a.queue }()
	default:
		return "", a.note(Attempt{Name: name, From: from, Why: "too many at once"}, tooSoon(2*time.Second))
	}
	a.turns <- struct{}{}
	defer func() { <-a.turns }()
	if left := a.held(name, from); left > 0 { // by those that came before
		return "", a.note(Attempt{Name: name, From: from, Why: "too soon"}, tooSoon(left))
	}
	a.mu.Lock()
	user := User{Salt: noSalt}
	if i := slices.IndexFunc(a.users, func(u User) bool { return strings.EqualFold(u.Name, name) }); i >= 0 {
		user = a.users[i]
	}
	a.mu.Unlock()
	same := subtle.ConstantTimeCompare(hashOf(passphrase, user.Salt), user.Hash) == 1
	a.mu.Lock()
	defer a.mu.Unlock()
	if !same || user.Name == "" {
		a.failed(name, from)
		return "", a.note(Attempt{Name: name, From: from, Why: "wrong name or passphrase"}, wrong())
	}
	for _, key := range []string{from, strings.ToLower(name) + "\x00" + from} {
		delete(a.failures, key)
	}
	secret = rand.Text() + rand.Text()
	now := a.now()
	for key, s := range a.sessions {
		if s.over(now) {
			delete(a.sessions, key)
		}
	}
	a.sessions[secret] = &session{user.Name, now, now}
	return secret, a.note(Attempt{Name: user.Name, From: from, OK: true}, nil)
}

func wrong() error {
	return problem.New("sign-in", "Name or passphrase is wrong.", "Check both: capitals count in the passphrase.")
}

func tooSoon(left time.Duration) error {
	return problem.New("wait", fmt.Sprintf("Too many attempts have failed. Wait %d s.", int(left.Seconds()+0.999)),
		"Then try again.")
}

// mostFailures bounds those who are made to wait.
const mostFailures = 10_000

// failed counts a failure against the name from that address, and against the
// address. The lock is held.
func (a *Accounts) failed(name, from string) {
	now := a.now()
	if len(a.failures) > mostFailures {
		for key, f := range a.failures {
			if now.Sub(f.until) > time.Minute {
				delete(a.failures, key)
			}
		}
	}
	for key, free := range map[string]int{strings.ToLower(name) + "\x00" + from: 3, from: 10} {
		f := a.failures[key]
		if f == nil {
			f = &failure{}
			a.failures[key] = f
		}
		if now.Sub(f.until) > 15*time.Minute {
			f.count = 0
		}
		if f.count++; f.count >= free {
			f.until = now.Add(min(time.Minute, time.Second<<min(6, f.count-free)))
		} else {
			f.until = now
		}
	}
}

// held returns how much longer somebody has to wait.
func (a *Accounts) held(name, from string) (left time.Duration) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, key := range []string{from, strings.ToLower(name) + "\x00" + from} {
		if f := a.failures[key]; f != nil {
			left = max(left, f.until.Sub(a.now()))
		}
	}
	return left
}

// note records an attempt and returns err, or what kept it from being recorded.
func (a *Accounts) note(attempt Attempt, err error) error {
	attempt.At = a.now().UTC()
	line, failed := json.Marshal(attempt)
	if failed != nil {
		return failed
	}
	path := filepath.Join(a.dir, attemptsFile)
	if info, statErr := os.Stat(path); statErr == nil && info.Size() > mostAttempts {
		if failed = os.Rename(path, path+".old"); failed != nil {
			return failed
		}
	}
	f, failed := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if failed != nil {
		return failed
	}
	_, failed = f.Write(append(line, '\n'))
	if failed = errors.Join(failed, f.Close()); failed != nil {
		return failed
	}
	return err
}

// Attempts returns the latest attempts to sign in, the newest first.
func (a *Accounts) Attempts(most int) ([]Attempt, error) {
	data, err := os.ReadFile(filepath.Join(a.dir, attemptsFile))
	if errors.Is(err, fs.ErrNotExist) {
		return []Attempt{}, nil
	}
	if err != nil {
		return nil, err
	}
	lines := bytes.Split(bytes.TrimSpace(data), []byte("\n"))
	list := []Attempt{}
	for _, line := range slices.Backward(lines) {
		var attempt Attempt
		if json.Unmarshal(line, &attempt) == nil && len(list) < most { // a line that a kill cut short is left out
			list = append(list, attempt)
		}
	}
	return list, nil
}
