package value

import (
	"encoding/hex"
	"fmt"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// Charset is how the characters of a text are coded.
type Charset string

// The character sets. AnyCharset reads UTF-8 where the octets are valid UTF-8
// and Latin-1 where they are not, and writes UTF-8.
const (
	AnyCharset Charset = ""
	ASCII      Charset = "ascii"  // ISO/IEC 646; octets above 0x7F read as the replacement character
	Latin1     Charset = "latin1" // ISO/IEC 8859-1
	UTF8       Charset = "utf8"
	UTF16      Charset = "utf16" // one code unit in each word, surrogate pairs in two
)

// Charsets lists the character sets that can be named.
func Charsets() []Charset { return []Charset{ASCII, Latin1, UTF8, UTF16} }

func (c Charset) check(t Type, length int) error {
	switch c {
	case AnyCharset, ASCII, Latin1, UTF8:
	case UTF16:
		if length%2 != 0 {
			return fmt.Errorf("a text of %d octets cannot be UTF-16: give an even length", length)
		}
	default:
		return fmt.Errorf("character set %q is not known: use ascii, latin1, utf8 or utf16", c)
	}
	if c != AnyCharset && t != TypeText {
		return fmt.Errorf("a %s has no character set", t)
	}
	return nil
}

// Padding is what fills a text to its length.
type Padding string

// The paddings. Reading ends at the first NUL and strips trailing blanks
// whatever the padding; it decides what is written.
const (
	PadNUL   Padding = ""
	PadSpace Padding = "space"
	// Counted has two octets before the characters: how many there can be, and
	// how many there are. What lies behind those is left from longer texts.
	Counted Padding = "counted"
)

// counts is how many octets stand before the characters of a counted text.
const counts = 2

// mostCounted is the longest counted text, as its counts are octets.
const mostCounted = 254

// Octets is how many octets a value of the shape takes, its counts included.
func (s Shape) Octets() int {
	if s.Padding == Counted {
		return counts + s.Type.Bytes(s.Length)
	}
	return s.Type.Bytes(s.Length)
}

func (s Shape) checkPadding() error {
	switch s.Padding {
	case PadNUL, PadSpace:
		return nil
	case Counted:
		switch {
		case s.Type != TypeText || s.Charset == UTF16:
			return fmt.Errorf("only a text of single octets is counted")
		case s.Length > mostCounted:
			return fmt.Errorf("a counted text of %d octets: up to %d can be", s.Length, mostCounted)
		case s.Order == "BA":
			return fmt.Errorf("a counted text has no byte order")
		}
		return nil
	}
	return fmt.Errorf("padding %q: write space or counted, or nothing for NUL", s.Padding)
}

// octet returns octet i of the text, in the order of its characters.
func (c *Codec) octet(b []byte, i int) byte {
	return b[c.placeOf(i)]
}

// placeOf returns where octet i of the text lies.
func (c *Codec) placeOf(i int) int {
	if c.Order == "BA" {
		return i ^ 1
	}
	return i
}

// decodeText reads characters up to the first NUL; trailing blanks are padding.
func (c *Codec) decodeText(b []byte, prev Value) Value {
	var buf [512]byte
	out := buf[:0]
	if c.Padding == Counted {
		out = append(out, b[counts:counts+min(int(b[1]), c.Length)]...)
	} else if c.Charset == UTF16 {
		out = c.decodeUTF16(b, out)
	} else {
		for i := range c.Length {
			ch := c.octet(b, i)
			if ch == 0 {
				break
			}
			out = append(out, ch)
		}
	}
	for len(out) > 0 && out[len(out)-1] == ' ' {
		out = out[:len(out)-1]
	}
	switch c.Charset {
	case ASCII:
		out = recode(out, func(ch byte) rune {
			if ch < 0x80 {
				return rune(ch)
			}
			return utf8.RuneError
		})
	case Latin1:
		out = recode(out, func(ch byte) rune { return rune(ch) })
	case UTF8:
		if !utf8.Valid(out) {
			out = []byte(strings.ToValidUTF8(string(out), "\uFFFD"))
		}
	case AnyCharset:
		if !utf8.Valid(out) {
			out = recode(out, func(ch byte) rune { return rune(ch) })
		}
	}
	if prev.kind == Text && prev.text == string(out) {
		return prev
	}
	return OfText(string(out))
}

func (c *Codec) decodeUTF16(b, out []byte) []byte {
	var high rune
	for i := 0; i+1 < len(b); i += 2 {
		unit := rune(c.octet(b, i))<<8 | rune(c.octet(b, i+1))
		switch {
		case unit == 0:
			return out
		case utf16.IsSurrogate(unit) && high == 0:
			high = unit
			continue
		case high != 0:
			unit = utf16.DecodeRune(high, unit)
			high = 0
		}
		out = utf8.AppendRune(out, unit)
	}
	return out
}

// recode maps octets to characters; pure ASCII is left as it is.
func recode(b []byte, to func(byte) rune) []byte {
	plain := true
	for _, ch := range b {
		plain = plain && ch < 0x80
	}
	if plain {
		return b
	}
	out := make([]byte, 0, 2*len(b))
	for _, ch := range b {
		out = utf8.AppendRune(out, to(ch))
	}
	return out
}

func (c *Codec) encodeText(v Value, b []byte) error {
	coded, err := c.code(v.text)
	if err != nil {
		return err
	}
	if len(coded) > c.Length {
		return fmt.Errorf("the text takes %d bytes and the point holds %d", len(coded), c.Length)
	}
	if c.Padding == Counted {
		clear(b[:c.width])
		b[0], b[1] = byte(c.Length), byte(len(coded))
		copy(b[counts:], coded)
		return nil
	}
	for i := range c.Length {
		ch := byte(0)
		switch {
		case i < len(coded):
			ch = coded[i]
		case c.Padding == PadSpace && (c.Charset != UTF16 || i%2 == 1):
			ch = ' '
		}
		b[c.placeOf(i)] = ch
	}
	return nil
}

// code writes a text in the character set of the codec.
func (c *Codec) code(s string) ([]byte, error) {
	limit := rune(utf8.MaxRune)
	switch c.Charset {
	case ASCII:
		limit = 0x7F
	case Latin1:
		limit = 0xFF
	case UTF16:
		var out []byte
		for _, unit := range utf16.Encode([]rune(s)) {
			out = append(out, byte(unit>>8), byte(unit))
		}
		return out, nil
	default:
		return []byte(s), nil
	}
	out := make([]byte, 0, len(s))
	for _, r := range s {
		if r > limit {
			return nil, fmt.Errorf("%q is not in the character set of the point, %s", r, c.Charset)
		}
		out = append(out, byte(r))
	}
	return out, nil
}

// decodeOctets shows raw bytes in hexadecimal, a blank between words.
func (c *Codec) decodeOctets(b []byte, prev Value) Value {
	var buf [640]byte
	out := buf[:0]
	for i := range c.Length {
		if i > 0 && i%2 == 0 {
			out = append(out, ' ')
		}
		out = hex.AppendEncode(out, []byte{c.octet(b, i)})
	}
	for i, ch := range out {
		if ch >= 'a' {
			out[i] = ch - 'a' + 'A'
		}
	}
	if prev.kind == Text && prev.text == string(out) {
		return prev
	}
	return OfText(string(out))
}

func (c *Codec) encodeOctets(v Value, b []byte) error {
	raw, err := hex.DecodeString(strings.Join(strings.Fields(v.text), ""))
	if err != nil {
		return fmt.Errorf("%q is not hexadecimal: write two digits for each byte, such as 0A 1F", v.text)
	}
	if len(raw) != c.Length {
		return fmt.Errorf("%d bytes are given and the point holds %d", len(raw), c.Length)
	}
	for i := range raw {
		b[c.placeOf(i)] = raw[i]
	}
	return nil
}
