package files

import (
	"bufio"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"ferry/internal/core/capture"
	"ferry/internal/core/serial"
)

// SerialText reads a recording of a serial line: lines with octets in hexadecimal,
// before them a time and who speaks, in the ways in which such lists are usually
// written. All of it may be missing but the octets:
//
//	2026-03-02 06:00:00.123456 > 0D 03 00 00 00 0C 45 C3
//	[06:00:00.127] RX: 0d031800...
//	0.004123 tx 0x0D 0x03
//
// What stands behind the octets, such as the same as text, is left out.
type SerialText struct {
	// OneWay is set where no line says who speaks, as far as was read.
	OneWay bool
	// Lines counts the lines, Unread those of which nothing could be made, and Why says
	// what the first of them was.
	Lines, Unread int64
	Why           string

	scan *bufio.Scanner
	own  serial.Format
	now  time.Time
	day  time.Time
	last time.Time
	buf  []byte
}

// LooksSerial reports whether a recording begins as lines of text do.
func LooksSerial(head []byte) bool {
	if len(head) == 0 || !utf8.Valid(head[:len(head)-min(len(head)-1, 3)]) {
		return false
	}
	for _, c := range head {
		if c < ' ' && c != '\t' && c != '\r' && c != '\n' {
			return false
		}
	}
	return true
}

// longestLine bounds a line of such a recording, in octets.
const longestLine = 1 << 20

// OpenSerialText begins to read. format is how the line was set, which tells how long
// octets without a time of their own took.
func OpenSerialText(r io.Reader, format serial.Format) *SerialText {
	scan := bufio.NewScanner(r)
	scan.Buffer(make([]byte, 0, 1<<16), longestLine)
	return &SerialText{OneWay: true, scan: scan, own: format, now: time.Unix(0, 0).UTC(), day: time.Unix(0, 0).UTC()}
}

// Next reads the next octets. known says whether the line tells who speaks. It returns
// io.EOF at the end.
func (s *SerialText) Next() (p capture.Piece, known bool, err error) {
	for s.scan.Scan() {
		s.Lines++
		text := strings.TrimSpace(strings.TrimPrefix(s.scan.Text(), "\ufeff"))
		if text == "" || strings.HasPrefix(text, "#") || strings.HasPrefix(text, "//") {
			continue
		}
		p, known, ok := s.line(text)
		if !ok {
			if s.Unread++; s.Why == "" {
				s.Why = fmt.Sprintf("line %d has no octets in hexadecimal: %s", s.Lines, strconv.Quote(firstOf(text, 60)))
			}
			continue
		}
		p.Number = s.Lines
		if known {
			s.OneWay = false
		}
		return p, known, nil
	}
	if err := s.scan.Err(); err != nil {
		if errors.Is(err, bufio.ErrTooLong) {
			return p, false, fmt.Errorf("line %d is longer than %d octets", s.Lines+1, longestLine)
		}
		return p, false, err
	}
	return p, false, io.EOF
}

func firstOf(text string, n int) string {
	if len(text) > n {
		return strings.ToValidUTF8(text[:n], "") + "…"
	}
	return text
}

// directions are the words by which a line says who speaks: the asker sends.
var directions = map[string]capture.Side{
	">": capture.Asker, "->": capture.Asker, ">>": capture.Asker, "tx": capture.Asker,
	"out": capture.Asker, "send": capture.Asker, "sent": capture.Asker, "req": capture.Asker, "request": capture.Asker,
	"master": capture.Asker, "client": capture.Asker, "<": capture.Answerer, "<-": capture.Answerer,
	"<<": capture.Answerer, "rx": capture.Answerer, "in": capture.Answerer, "recv": capture.Answerer,
	"received": capture.Answerer, "rsp": capture.Answerer, "resp": capture.Answerer, "response": capture.Answerer,
	"answer": capture.Answerer, "slave": capture.Answerer, "server": capture.Answerer}

// line reads one line.
func (s *SerialText) line(text string) (p capture.Piece, known, ok bool) {
	s.buf = s.buf[:0]
	at := time.Time{}
	words := strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune(" \t[]();|\"", r) })
	for i, word := range words {
		word = strings.Trim(word, ",")
		bare := strings.TrimSuffix(word, ":")
		if side, is := directions[strings.ToLower(bare)]; is && len(s.buf) == 0 {
			p.Side, known = side, true
			continue
		}
		if len(s.buf) == 0 {
			if t, is := s.time(word, i == 0 && i+1 < len(words) && isDirection(words[i+1])); is {
				at = t
				continue
			}
			if i == 0 && bare != word && len(bare) >= 4 {
				continue // where it stands in a dump
			}
		}
		octets, is := octetsOf(bare)
		if !is {
			if len(s.buf) > 0 {
				break // the same as text, or a remark
			}
			continue // a name, a number of a line
		}
		s.buf = append(s.buf, octets...)
	}
	if len(s.buf) == 0 {
		return p, known, false
	}
	if at.IsZero() {
		at = s.now
	}
	p.At, p.Octets = at, s.buf
	s.now = at.Add(time.Duration(float64(len(s.buf)) * s.own.CharMs() * float64(time.Millisecond)))
	return p, known, true
}

func isDirection(word string) bool {
	_, is := directions[strings.ToLower(strings.TrimSuffix(word, ":"))]
	return is
}

// octetsOf reads octets in hexadecimal: one, or several run together.
func octetsOf(word string) ([]byte, bool) {
	if parts := strings.Split(word, ","); len(parts) > 1 {
		var all []byte
		for _, part := range parts {
			octets, is := octetsOf(part)
			if !is {
				return nil, false
			}
			all = append(all, octets...)
		}
		return all, true
	}
	word = strings.TrimPrefix(strings.TrimPrefix(word, "0x"), "0X")
	if strings.HasPrefix(word, "\\x") {
		word = strings.ReplaceAll(word, "\\x", "")
	}
	if strings.Count(word, "-") == (len(word)-2)/3 && len(word) > 2 {
		word = strings.ReplaceAll(word, "-", "")
	}
	if len(word) < 2 || len(word)%2 != 0 {
		return nil, false
	}
	octets, err := hex.DecodeString(word)
	return octets, err == nil
}

// time reads a date, a time of day, seconds with their fraction, or milliseconds where
// whole says that a number may be such.
func (s *SerialText) time(word string, whole bool) (time.Time, bool) {
	word = strings.TrimPrefix(word, "+")
	if t, err := time.Parse(time.RFC3339Nano, word); err == nil {
		s.settle(t.UTC())
		return t.UTC(), true
	}
	for _, layout := range []string{"2006-01-02T15:04:05.999999999", "2006-01-02", "02.01.2006", "2006/01/02",
		"01/02/2006"} {
		if t, err := time.Parse(layout, word); err == nil {
			if strings.Contains(layout, "15") {
				return t, true
			}
			s.day = t
			return s.now, true
		}
	}
	for _, layout := range []string{"15:04:05.999999999", "15:04:05,999999999"} {
		if t, err := time.Parse(layout, word); err == nil {
			at := time.Date(s.day.Year(), s.day.Month(), s.day.Day(), t.Hour(), t.Minute(), t.Second(), t.Nanosecond(),
				time.UTC)
			if at.Before(s.last.Add(-12 * time.Hour)) {
				s.day = s.day.AddDate(0, 0, 1) // past midnight
				at = at.AddDate(0, 0, 1)
			}
			s.last = at
			return at, true
		}
	}
	if number, _ := strings.CutSuffix(word, "s"); strings.ContainsAny(number, ".") {
		if seconds, err := strconv.ParseFloat(number, 64); err == nil && seconds >= 0 && seconds < 1e11 {
			return time.Unix(0, 0).UTC().Add(time.Duration(seconds * 1e9)), true
		}
	}
	if whole {
		if n, err := strconv.ParseUint(word, 10, 40); err == nil {
			return time.Unix(0, 0).UTC().Add(time.Duration(n) * time.Millisecond), true
		}
	}
	return time.Time{}, false
}

func (s *SerialText) settle(t time.Time) { s.day, s.last = t, t }
