package files

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

// token is a word, a number, a text or a sign of the source.
type token struct {
	kind byte // w a word, n a number, t a text, p an address, s a sign; 0 at the end
	text string
	line int
	col  int
}

// is reports whether the token is a keyword or a sign.
func (t token) is(word string) bool {
	return (t.kind == 'w' || t.kind == 's') && strings.EqualFold(t.text, word)
}

// lexer takes a source apart.
type lexer struct {
	text string
	at   int
	line int
	from int // where the line begins
	// remark is the comment read last, of remarkLine.
	remark     string
	remarkLine int
}

func (l *lexer) advance(n int) {
	for _, r := range l.text[l.at : l.at+n] {
		if r == '\n' {
			l.line++
			l.from = l.at
		}
	}
	if i := strings.LastIndexByte(l.text[l.at:l.at+n], '\n'); i >= 0 {
		l.from = l.at + i + 1
	}
	l.at += n
}

// comments are what begins one, and what ends it; the last ends with its line.
var comments = [][2]string{{"(*", "*)"}, {"/*", "*/"}, {"{", "}"}, {"//", "\n"}}

// skip passes over blanks and comments.
func (l *lexer) skip() {
	for l.at < len(l.text) {
		rest := l.text[l.at:]
		r, size := utf8.DecodeRuneInString(rest)
		if unicode.IsSpace(r) || r == '\uFEFF' {
			l.advance(size)
			continue
		}
		found := false
		for _, c := range comments {
			if !strings.HasPrefix(rest, c[0]) {
				continue
			}
			found = true
			body := rest[len(c[0]):]
			n := strings.Index(body, c[1])
			if n < 0 {
				n = len(body)
			}
			line := l.line
			if c[0] != "{" {
				l.remark, l.remarkLine = strings.Join(strings.Fields(strings.Trim(body[:n], "* \t\r\n/")), " "), line
			}
			end := len(c[0]) + n
			if c[1] != "\n" {
				end += len(c[1])
			}
			l.advance(min(end, len(rest)))
			break
		}
		if !found {
			return
		}
	}
}

func isWord(r rune) bool { return r == '_' || unicode.IsLetter(r) || unicode.IsDigit(r) }

func (l *lexer) next() token {
	l.skip()
	t := token{line: l.line, col: l.at - l.from + 1}
	if l.at >= len(l.text) {
		return t
	}
	rest := l.text[l.at:]
	take := func(kind byte, n int) token {
		t.kind, t.text = kind, rest[:n]
		l.advance(n)
		return t
	}
	first, size := utf8.DecodeRuneInString(rest)
	switch {
	case first == '%':
		n := 1
		for n < len(rest) && (isWord(rune(rest[n])) || rest[n] == '.' || rest[n] == '*') {
			n++
		}
		return take('p', n)
	case first == '"' || first == '\'':
		n := strings.IndexRune(rest[1:], first)
		if n < 0 || strings.IndexByte(rest[1:1+n], '\n') >= 0 {
			return take('s', 1)
		}
		t = take('t', n+2)
		if t.text = t.text[1 : len(t.text)-1]; first == '"' {
			t.kind = 'w' // a quoted name
		}
		return t
	case unicode.IsDigit(first):
		n := 0
		for n < len(rest) {
			r, s := utf8.DecodeRuneInString(rest[n:])
			if !isWord(r) && r != '#' && (r != '.' || strings.HasPrefix(rest[n:], "..")) {
				break
			}
			n += s
		}
		return take('n', n)
	case isWord(first):
		n := 0
		for n < len(rest) {
			r, s := utf8.DecodeRuneInString(rest[n:])
			if !isWord(r) && r != '#' {
				break
			}
			n += s
		}
		return take('w', n)
	case strings.HasPrefix(rest, ":="), strings.HasPrefix(rest, ".."):
		return take('s', 2)
	}
	return take('s', size)
}
