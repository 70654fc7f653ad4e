package regmap

import (
	"fmt"
	"strconv"
	"strings"
)

// ParseWords reads 16-bit words as people copy them: four hexadecimal digits
// each, with blanks, commas or nothing between, 0x before, or decimal after #.
func ParseWords(text string) ([]uint16, error) {
	var words []uint16
	for part := range strings.FieldsFuncSeq(text, func(r rune) bool { return strings.ContainsRune(" \t\r\n,;", r) }) {
		if decimal, ok := strings.CutPrefix(part, "#"); ok {
			n, err := strconv.ParseInt(decimal, 10, 32)
			if err != nil || n < -32768 || n > 65535 {
				return nil, fmt.Errorf("%q is no 16-bit number", part)
			}
			words = append(words, uint16(n))
			continue
		}
		part = strings.TrimPrefix(strings.TrimPrefix(part, "0x"), "0X")
		if len(part) < 4 {
			part = strings.Repeat("0", 4-len(part)) + part
		}
		if len(part)%4 != 0 {
			return nil, fmt.Errorf("%q has not four hexadecimal digits for each word", part)
		}
		for ; part != ""; part = part[4:] {
			n, err := strconv.ParseUint(part[:4], 16, 16)
			if err != nil {
				return nil, fmt.Errorf("%q is not hexadecimal", part[:4])
			}
			words = append(words, uint16(n))
		}
	}
	return words, nil
}
