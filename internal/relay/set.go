package relay

import (
	"errors"
	"strconv"
	"sync"

	"ferry/internal/core/problem"
)

// Set is the relays of a site that are at work.
type Set struct {
	mu     sync.Mutex
	next   int
	relays map[string]*Relay
	order  []string
}

// mostRelays bounds them.
const mostRelays = 32

// Start begins a relay.
func (s *Set) Start(setup Setup, ground Ground) (string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.relays) >= mostRelays {
		return "", problem.New("full", "As many relays are at work as can be.", "Stop one that is no longer needed.")
	}
	r, err := Start(setup, ground)
	if err != nil {
		return "", problem.New("relay", "The relay cannot begin: "+err.Error()+".",
			"Look at both ends, and choose a port that is free.").At(setup.Near.At)
	}
	if s.relays == nil {
		s.relays = map[string]*Relay{}
	}
	s.next++
	id := strconv.Itoa(s.next)
	s.relays[id] = r
	s.order = append(s.order, id)
	return id, nil
}

// Named finds a relay.
func (s *Set) Named(id string) (*Relay, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if r, ok := s.relays[id]; ok {
		return r, nil
	}
	return nil, problem.New("gone", "This relay is no longer at work.", "Start it again.").At(id)
}

// All lists how it stands with each, in the order in which they were begun.
func (s *Set) All() []RelayState {
	s.mu.Lock()
	defer s.mu.Unlock()
	list := []RelayState{}
	for _, id := range s.order {
		if r, ok := s.relays[id]; ok {
			state := r.State()
			state.ID = id
			list = append(list, state)
		}
	}
	return list
}

// Stop ends a relay.
func (s *Set) Stop(id string) error {
	r, err := s.Named(id)
	if err != nil {
		return err
	}
	s.mu.Lock()
	delete(s.relays, id)
	s.mu.Unlock()
	return r.Close()
}

// Close ends all.
func (s *Set) Close() error {
	var failed error
	for _, state := range s.All() {
		failed = errors.Join(failed, s.Stop(state.ID))
	}
	return failed
}
