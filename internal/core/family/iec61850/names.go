// Package iec61850 is what Ferry knows of IEC 61850: so far, which names its data
// hold.
package iec61850

import (
	"unicode"

	"ferry/internal/core/protocol"
)

func init() {
	// The length of the name of a data object: IEC 61850-7-2, clause 22.2.
	protocol.RegisterNames(protocol.NameRule{Key: "iec61850", Title: "IEC 61850 data names", Most: 12,
		Allowed: func(i int, r rune) bool {
			return r < 0x80 && unicode.IsLetter(r) || i > 0 && r < 0x80 && unicode.IsDigit(r)
		}, Words: "letters and digits, a letter first"})
}
