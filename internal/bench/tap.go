package bench

import (
	"fmt"
	"time"

	"ferry/internal/core/problem"
	"ferry/internal/core/serial"
)

// Tap is the path of a port that hears what is said on a line of the bench, both ways.
func (b *Bench) Tap(line string) (string, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	l := b.lines[line]
	if l == nil {
		return "", problem.New("gone", "The bench plays no such line.", "Choose a serial line of the site.").At(line)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.tap == nil {
		tap, err := b.terminal()()
		if err != nil {
			return "", fmt.Errorf("no port can be made to listen at: %w", err)
		}
		l.tap = tap
	}
	return l.tap.name(), nil
}

// askedBy is what another program's n-th question, and the answer to it, are to the near
// end, if somebody has it open (what a port that nobody has set is given comes back), and to
// the port that listens.
func (l *serialLine) askedBy(n int, now time.Time, has bool) (deliveries []delivery) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.units) == 0 {
		return nil
	}
	u := l.units[n%len(l.units)]
	asks, ok := u.speech.(Asks)
	if !ok {
		return nil
	}
	questions := asks.Questions(&u.Simulated)
	if len(questions) == 0 {
		return nil
	}
	question := questions[n/len(l.units)%len(questions)]
	all, end := serial.Send(question, u.format, 0)
	all = serial.Merge(all, u.hears(question, all, u.format, end))
	for _, to := range []struct {
		port terminal
		tap  bool
	}{{l.port, false}, {l.tap, true}} {
		if to.port == nil || !to.tap && !has {
			continue
		}
		set := to.port.near()
		chars := serial.Receive(all, set)
		for i, v := range serial.Delivered(chars, set) {
			deliveries = append(deliveries, delivery{now.Add(time.Duration(chars[i].End * 1e6)), v, to.tap})
		}
	}
	return deliveries
}
