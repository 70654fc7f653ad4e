package enip

import (
	"fmt"
	"strings"

	"ferry/internal/core/protocol"
)

func looksEDS(text string) bool {
	low := strings.ToLower(text[:min(len(text), 64<<10)])
	return strings.Contains(low, "[file]") && strings.Contains(low, "[device]")
}

// entriesOf takes a file apart: sections in brackets, entries that end with a semicolon,
// values parted by commas, texts in quotes, which go on in the next line where one follows
// the other, and remarks from a dollar sign to the end of the line.
func entriesOf(text string) (entries []entry, unread []protocol.Unread) {
	s := scanner{text: text, line: 1}
	section := ""
	for len(entries) < mostEntries {
		s.blank()
		switch c, more := s.peek(); {
		case !more:
			return entries, unread
		case c == '[':
			name, ok := s.until("]\n")
			if !ok {
				unread = append(unread, protocol.Unread{Line: s.line, What: name,
					Reason: "the bracket of the section is not closed"})
				continue
			}
			section = strings.TrimSpace(strings.TrimPrefix(name, "["))
		default:
			en := entry{section: section, line: s.line}
			key, ok := s.until("=;[\n")
			if en.key = strings.TrimSpace(key); !ok || s.ended != '=' {
				if en.key != "" && len(unread) < 1000 {
					unread = append(unread, protocol.Unread{Line: en.line, What: en.key[:min(len(en.key), 80)],
						Reason: "it is no entry: an equals sign is missing"})
				}
				continue
			}
			var why string
			if en.values, why = s.values(); why != "" {
				unread = append(unread, protocol.Unread{Line: en.line, What: en.key, Reason: why})
				continue
			}
			entries = append(entries, en)
		}
	}
	return entries, append(unread, protocol.Unread{Line: s.line, What: "the file",
		Reason: fmt.Sprintf("it has more than %d entries", mostEntries)})
}

// scanner goes through a file.
type scanner struct {
	text  string
	at    int
	line  int
	ended byte
}

func (s *scanner) peek() (c byte, more bool) {
	if s.at >= len(s.text) {
		return 0, false
	}
	return s.text[s.at], true
}

func (s *scanner) next() {
	if s.text[s.at] == '\n' {
		s.line++
	}
	s.at++
}

// blank passes over blanks and remarks.
func (s *scanner) blank() {
	for s.at < len(s.text) {
		switch c := s.text[s.at]; {
		case c == ' ' || c == '\t' || c == '\r' || c == '\n':
			s.next()
		case c == '$':
			for s.at < len(s.text) && s.text[s.at] != '\n' {
				s.at++
			}
		default:
			return
		}
	}
}

// until reads up to one of some characters, which it passes over, but for a bracket that
// opens; ok is false at the end of the file and of a line.
func (s *scanner) until(ends string) (text string, ok bool) {
	from := s.at
	for s.at < len(s.text) {
		c := s.text[s.at]
		if strings.IndexByte(ends, c) >= 0 && s.at > from {
			text, s.ended = s.text[from:s.at], c
			if c != '[' {
				s.next()
			}
			return text, c != '\n'
		}
		s.next()
	}
	s.ended = 0
	return s.text[from:], false
}

// values reads the values of an entry up to its semicolon.
func (s *scanner) values() (list []string, why string) {
	var now strings.Builder
	put := func() {
		list = append(list, strings.TrimSpace(now.String()))
		now.Reset()
	}
	for {
		s.blank()
		c, more := s.peek()
		switch {
		case !more:
			return nil, "the semicolon at its end is missing"
		case len(list) > mostValues:
			return nil, fmt.Sprintf("it has more than %d values", mostValues)
		case c == ';':
			s.next()
			put()
			return list, ""
		case c == ',':
			s.next()
			put()
		case c == '"':
			s.next()
			closed := false
			for s.at < len(s.text) {
				c := s.text[s.at]
				if c == '\\' && s.at+1 < len(s.text) {
					s.next()
					now.WriteByte(s.text[s.at])
					s.next()
					continue
				}
				if c == '\n' {
					break
				}
				s.next()
				if c == '"' {
					closed = true
					break
				}
				now.WriteByte(c)
			}
			if !closed {
				return nil, "a text in it is not closed"
			}
		case c == '[' && now.Len() == 0 && s.newSection():
			return nil, "the semicolon at its end is missing"
		default:
			from := s.at
			for s.at < len(s.text) && strings.IndexByte(",;\"$\n\r", s.text[s.at]) < 0 {
				s.at++
			}
			now.WriteString(s.text[from:s.at])
		}
	}
}

// newSection reports whether a section begins here, at the beginning of a line.
func (s *scanner) newSection() bool {
	line := s.text[s.at:]
	if end := strings.IndexByte(line, '\n'); end >= 0 {
		line = line[:end]
	}
	before := strings.TrimRight(s.text[:s.at], " \t")
	return (before == "" || strings.HasSuffix(before, "\n")) && strings.HasSuffix(strings.TrimSpace(line), "]")
}
