package bench

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"time"

	"ferry/internal/core/protocol"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
	"ferry/internal/precise"
)

// serialLine is a simulated serial line: a port whose far end is
// several devices. Its characters take their time at the baud rate that the
// near end was opened with, and a device that is set otherwise hears, and
// sends, what it would on a wire.
type serialLine struct {
	path string
	port terminal
	done chan struct{}
	quit chan struct{}

	mu    sync.Mutex
	units []*unit
	fault Fault // of the line itself
	// tap is a second port at the near end that hears all and says nothing; nil until it
	// is asked for.
	tap terminal
}

// unit is one simulated device on a line.
type unit struct {
	Simulated
	device string
	made   string
	speech Overhears
	format serial.Format
	fault  Fault
	twin   *Simulated // a second device of its number, while there is one
}

// syncLines starts a pseudo-terminal for each serial line, and puts the devices
// of the site on it.
func (b *Bench) syncLines(s *site.Site) error {
	var errs []error
	for id, line := range b.lines {
		if l := s.Line(id); l == nil || l.Medium != site.SerialLine {
			errs = append(errs, line.Close())
			delete(b.lines, id)
		}
	}
	for i := range s.Lines {
		l := &s.Lines[i]
		if l.Medium != site.SerialLine {
			continue
		}
		if b.lines[l.ID] == nil {
			line, err := openLine(b.terminal())
			if err != nil {
				errs = append(errs, fmt.Errorf("simulated line %s: %w", l.Name, err))
				continue
			}
			b.lines[l.ID] = line
		}
		b.lines[l.ID].sync(s, l)
	}
	return errors.Join(errs...)
}

func openLine(open func() (terminal, error)) (*serialLine, error) {
	port, err := open()
	if err != nil {
		return nil, err
	}
	l := &serialLine{path: port.name(), port: port, done: make(chan struct{}), quit: make(chan struct{})}
	go l.run()
	return l, nil
}

// sync takes over the devices of the line. One whose map and settings are the
// same stays as it is.
func (l *serialLine) sync(s *site.Site, line *site.Line) {
	l.mu.Lock()
	defer l.mu.Unlock()
	var units []*unit
	for d, port := range answering(s) {
		if port.Line != line.ID {
			continue
		}
		print := made(d, port)
		at := slices.IndexFunc(l.units, func(u *unit) bool { return u.device == d.ID })
		if at >= 0 && l.units[at].made == print {
			l.units[at].format = line.SerialOf(port).Format()
			units = append(units, l.units[at])
			continue
		}
		speech, ok := speeches[port.Protocol].(Overhears)
		if !ok {
			continue
		}
		u := &unit{Simulated: simulate(d, port), device: d.ID, made: print, speech: speech,
			format: line.SerialOf(port).Format()}
		if at >= 0 {
			u.befall(l.units[at].fault)
		}
		units = append(units, u)
	}
	for _, stranger := range line.Strangers {
		def := protocol.UsualOn(line.Medium)
		speech, speaks := speeches[def.Name].(Overhears)
		m, ok := models()[stranger.Bench]
		if !ok || !speaks || slices.ContainsFunc(units, func(u *unit) bool { return u.station() == stranger.Station }) {
			continue
		}
		own := Simulated{Def: def, Settings: protocol.Settings{def.Station: protocol.OfInt(stranger.Station)},
			Identity: m.Identity,
			Think:    strangerThinks,
			Memory:   newMemory(octetsIn(def.Scheme), m.signals(def.Scheme), usualBeyond, time.Now())}
		units = append(units, &unit{speech: speech, format: line.Format(), Simulated: own})
	}
	l.units = units
}

const strangerThinks = 15 * time.Millisecond

// find returns a device of the line. The lock is held.
func (l *serialLine) find(device string) *unit {
	for _, u := range l.units {
		if u.device == device && device != "" { // strangers have no device
			return u
		}
	}
	return nil
}

func (l *serialLine) has(device string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.find(device) != nil
}

// station is the number that the device answers under.
func (s *Simulated) station() int {
	n, _ := s.Def.StationOf(s.Settings)
	return n
}

func (l *serialLine) protocolOf(device string) string {
	l.mu.Lock()
	defer l.mu.Unlock()
	if u := l.find(device); u != nil {
		return u.Def.Name
	}
	return ""
}

// faultOf returns the fault of a device, or that of the line for "".
func (l *serialLine) faultOf(device string) Fault {
	l.mu.Lock()
	defer l.mu.Unlock()
	if u := l.find(device); u != nil {
		return u.fault
	}
	return l.fault
}

func (l *serialLine) setFault(device string, f Fault) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if u := l.find(device); u != nil {
		u.befall(f)
	} else if device == "" {
		l.fault = f
	}
}

func (u *unit) befall(f Fault) {
	u.fault, u.twin = f, nil
	u.Memory.freeze(f.Kind == "freeze")
	if f.Kind == "twin" {
		other := u.Simulated
		other.State = nil
		other.Memory = newMemory(u.Memory.octets, u.Memory.signals, usualBeyond, time.Now().Add(-37*time.Second))
		other.Think += 3 * time.Millisecond
		u.twin = &other
	}
}

// Close ends the line.
func (l *serialLine) Close() error {
	close(l.quit)
	<-l.done
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.tap != nil {
		return errors.Join(l.port.Close(), l.tap.Close())
	}
	return l.port.Close()
}

// delivery is one character on its way to the near end.
type delivery struct {
	at    time.Time
	value byte
	tap   bool // at the port that only listens
}

// run plays the line: it takes requests as they come and delivers each
// character of an answer when its stop bit would arrive.
func (l *serialLine) run() {
	defer close(l.done)
	var coming []delivery
	buf := make([]byte, 1024)
	var others time.Time // when another program asked last
	has := false         // somebody has the port open
	for n := 0; ; {
		if fault := l.faultOf(""); fault.Kind == "asked" &&
			time.Since(others) >= time.Duration(fault.Value)*time.Millisecond {
			others = time.Now()
			coming = append(coming, l.askedBy(n, others, has)...)
			slices.SortStableFunc(coming, func(a, b delivery) int { return a.at.Compare(b.at) })
			n++
		}
		wait := 50 * time.Millisecond
		if len(coming) > 0 {
			wait = time.Until(coming[0].at)
		}
		if len(coming) > 0 && wait < 1500*time.Microsecond {
			n := 1
			for n < len(coming) && coming[n].at.Sub(coming[0].at) < time.Millisecond {
				n++
			}
			precise.Until(coming[n-1].at)
			l.give(coming[:n])
			coming = coming[n:]
			continue
		}
		select {
		case <-l.quit:
			return
		default:
		}
		got, open := l.port.take(buf, min(wait, 50*time.Millisecond))
		if has = open; !open { // nobody has the port open
			coming = slices.DeleteFunc(coming, func(d delivery) bool { return !d.tap })
			if len(coming) > 0 { // for the port that listens
				time.Sleep(time.Millisecond)
				continue
			}
			select {
			case <-l.quit:
				return
			case <-time.After(20 * time.Millisecond):
			}
			continue
		}
		now := time.Now()
		if got <= 0 {
			continue
		}
		coming = append(coming, l.asked(buf[:got], now)...)
		slices.SortStableFunc(coming, func(a, b delivery) int { return a.at.Compare(b.at) })
	}
}

// give hands characters to the near end, and to the port that listens.
func (l *serialLine) give(chars []delivery) {
	var out, tapped []byte
	for _, c := range chars {
		if c.tap {
			tapped = append(tapped, c.value)
		} else {
			out = append(out, c.value)
		}
	}
	if len(out) > 0 {
		l.port.give(out)
	}
	if len(tapped) > 0 {
		l.mu.Lock()
		tap := l.tap
		l.mu.Unlock()
		tap.give(tapped)
	}
}

// asked works out what becomes of octets that the near end sends from now on.
func (l *serialLine) asked(data []byte, now time.Time) []delivery {
	l.mu.Lock()
	defer l.mu.Unlock()
	own := l.port.near()
	if l.fault.Kind == "cut" {
		return nil
	}
	request, end := serial.Send(data, own, 0)
	var back serial.Wave
	if l.fault.Kind == "echo" {
		back = request
	}
	for _, u := range l.units {
		back = serial.Merge(back, u.hears(data, request, own, end))
	}
	chars := serial.Receive(back, own)
	spoiled := l.fault.Kind == "noise" || l.fault.Kind == "lost"
	if spoiled && rand.IntN(100) < l.fault.Value {
		chars = disturb(l.fault.Kind, chars)
	}
	values := serial.Delivered(chars, own)
	deliveries := make([]delivery, len(chars))
	for i, c := range chars {
		deliveries[i] = delivery{now.Add(time.Duration(c.End * 1e6)), values[i], false}
	}
	if l.tap != nil {
		heard := l.tap.near()
		chars := serial.Receive(serial.Merge(request, back), heard)
		for i, v := range serial.Delivered(chars, heard) {
			deliveries = append(deliveries, delivery{now.Add(time.Duration(chars[i].End * 1e6)), v, true})
		}
	}
	return deliveries
}

// disturb flips a bit of one character, or loses one.
func disturb(kind string, chars []serial.Char) []serial.Char {
	if len(chars) == 0 {
		return chars
	}
	at := rand.IntN(len(chars))
	if kind == "lost" {
		return slices.Delete(chars, at, at+1)
	}
	chars[at].Value ^= 1 << rand.IntN(8)
	chars[at].Bad = false
	return chars
}

// hears returns the wave of a unit's answer to a request whose last stop bit
// ends at a moment, in milliseconds. A unit that does not understand stays
// silent. As most devices do, it overlooks parity and stop bits that are wrong.
func (u *unit) hears(data []byte, request serial.Wave, near serial.Format, end float64) serial.Wave {
	if u.fault.Kind == "off" {
		return nil
	}
	own := u.format
	switch u.fault.Kind {
	case "baud":
		own.Baud = u.fault.Value
	case "parity":
		if own.Parity == serial.None {
			own.Parity = serial.Even
		} else {
			own.Parity = serial.None
		}
	}
	if own != near {
		chars := serial.Receive(request, own)
		data = make([]byte, len(chars))
		for i, c := range chars {
			data[i] = c.Value
		}
	}
	silence := u.Def.SilenceMs(own)
	wave := u.speaks(&u.Simulated, data, own, end+silence)
	if u.twin != nil {
		wave = serial.Merge(wave, u.speaks(u.twin, data, own, end+silence))
	}
	return wave
}

func (u *unit) speaks(s *Simulated, heard []byte, own serial.Format, at float64) serial.Wave {
	pause := s.Think
	if u.fault.Kind == "delay" {
		pause = time.Duration(u.fault.Value) * time.Millisecond
	}
	frame := u.speech.Hears(s, heard, u.fault)
	if frame == nil {
		return nil
	}
	if (u.fault.Kind == "noise" || u.fault.Kind == "lost") && rand.IntN(100) < u.fault.Value {
		at := rand.IntN(len(frame))
		if u.fault.Kind == "lost" {
			frame = slices.Delete(frame, at, at+1)
		} else {
			frame[at] ^= 1 << rand.IntN(8)
		}
	}
	at += float64(pause) / float64(time.Millisecond)
	if u.fault.Kind != "split" || len(frame) < 4 {
		wave, _ := serial.Send(frame, own, at)
		return wave
	}
	first, end := serial.Send(frame[:len(frame)/2], own, at)
	second, _ := serial.Send(frame[len(frame)/2:], own, end+float64(u.fault.Value))
	return append(first, second...)
}
