package modbus

import (
	"strings"
	"unicode"
)

// ParseIdentity reads the objects of a device identification from the data of
// its answer: vendor name, product code and revision, joined by blanks. The
// data is
//
//	octet 0   MEI type, 14
//	octet 1   read device ID code
//	octet 2   conformity level
//	octet 3   0xFF if more follows
//	octet 4   next object
//	octet 5   number of objects, each: id, length, text
func ParseIdentity(data []byte) (string, bool) {
	if len(data) < 6 || data[0] != 14 {
		return "", false
	}
	var parts []string
	rest := data[6:]
	for range int(data[5]) {
		if len(rest) < 2 || len(rest) < 2+int(rest[1]) {
			break
		}
		parts = append(parts, printable(rest[2:2+int(rest[1])]))
		rest = rest[2+int(rest[1]):]
	}
	text := strings.TrimSpace(strings.Join(parts, " "))
	return text, text != ""
}

// ParseServerID reads the answer to function 17: an octet count, then what the
// maker chose, usually with a text in it and the run indicator at the end.
func ParseServerID(data []byte) (string, bool) {
	if len(data) < 2 || int(data[0]) > len(data)-1 {
		return "", false
	}
	text := strings.TrimSpace(printable(data[1 : 1+int(data[0])]))
	return text, len(text) > 1
}

// printable keeps the readable characters of a text from a device.
func printable(b []byte) string {
	return strings.Map(func(r rune) rune {
		if r == unicode.ReplacementChar || !unicode.IsPrint(r) {
			return -1
		}
		return r
	}, string(b))
}
