// Package charset reads the text of files in whatever set of characters the program that wrote them has.
package charset

import (
	"bytes"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
)

// Text is the text of a file: UTF-8, or UTF-16 of either order with its mark in front, as spreadsheets save it; or
// else Windows-1252, which is Latin-1 with characters in the place of its second set of controls. The mark is left
// out, and what is no character is U+FFFD.
func Text(data []byte) string {
	switch {
	case bytes.HasPrefix(data, []byte("\xFF\xFE")):
		return units(data[2:], func(b []byte) uint16 { return uint16(b[0]) | uint16(b[1])<<8 })
	case bytes.HasPrefix(data, []byte("\xFE\xFF")):
		return units(data[2:], func(b []byte) uint16 { return uint16(b[1]) | uint16(b[0])<<8 })
	}
	if data = bytes.TrimPrefix(data, []byte("\xEF\xBB\xBF")); utf8.Valid(data) {
		return string(data)
	}
	return Single(data)
}

// Single is text with one octet a character, in Windows-1252.
func Single(data []byte) string {
	text := make([]rune, len(data))
	for i, b := range data {
		text[i] = charmap.Windows1252.DecodeByte(b)
	}
	return string(text)
}

func units(data []byte, unit func(b []byte) uint16) string {
	list := make([]uint16, 0, len(data)/2)
	for ; len(data) >= 2; data = data[2:] {
		list = append(list, unit(data))
	}
	text := utf16.Decode(list)
	if len(data) > 0 { // half of one
		text = append(text, utf8.RuneError)
	}
	return string(text)
}
