package value

import (
	"fmt"
	"slices"
	"strings"
)

// Order is the order of the bytes of a value on the wire. The letters name the
// bytes of the value from the most significant, A, on; their sequence is that
// of the wire. ABCD is what specifications prescribe for each
// register (big-endian) with the high word first; CDAB has the low word first;
// BADC swaps the bytes within each word; DCBA is little-endian throughout. Any
// other permutation of the letters is an order too. The zero Order is the
// alphabetical one, for every width.
type Order string

// ParseOrder reads an order for a value of the given width in bytes. Four
// letters given for eight bytes are taken as the rule they state for words and
// bytes: CDAB becomes GHEFCDAB, BADC becomes BADCFEHG. The alphabetical order
// becomes "". For text, AB and BA say which byte of each word comes first.
func ParseOrder(text string, t Type, width int) (Order, error) {
	order := strings.ToUpper(strings.TrimSpace(text))
	if order == "" {
		return "", nil
	}
	if t.InUnit() || width == 0 {
		if order == "AB" || order == "ABCD" {
			return "", nil
		}
		return "", fmt.Errorf("order %q: a %s has no order, leave it empty", text, t)
	}
	if t.IsText() {
		switch order {
		case "AB":
			return "", nil
		case "BA":
			return "BA", nil
		}
		return "", fmt.Errorf("order %q: a text takes AB or BA", text)
	}
	if width == 2 && len(order) == 4 && (order == "ABCD" || order == "CDAB") {
		return "", nil // the word order of a single word: nothing to order
	}
	if rules := Orders(width); width > 4 && len(order) == 4 {
		if i := slices.Index(Orders(4), Order(order)); i >= 0 {
			order = string(rules[i])
		}
	}
	if len(order) != width {
		return "", fmt.Errorf("order %q has %d letters: a %s needs %d, such as %s", text, len(order), t, width,
			Orders(width)[min(1, len(Orders(width))-1)])
	}
	seen := [8]bool{}
	for _, letter := range []byte(order) {
		at := int(letter) - 'A'
		if at < 0 || at >= width || seen[at] {
			return "", fmt.Errorf("order %q: use each of the letters A to %c once", text, 'A'+width-1)
		}
		seen[at] = true
	}
	if order == "ABCDEFGH"[:width] {
		return "", nil
	}
	return Order(order), nil
}

// Orders lists the usual orders for a width of 2, 4, 6 or 8 bytes: the
// alphabetical first, then low word first, bytes swapped in each word, and
// little-endian throughout; for 8 bytes also both halves swapped.
func Orders(width int) []Order {
	switch width {
	case 2:
		return []Order{"AB", "BA"}
	case 4:
		return []Order{"ABCD", "CDAB", "BADC", "DCBA"}
	case 6:
		return []Order{"ABCDEF", "EFCDAB", "BADCFE", "FEDCBA"}
	case 8:
		return []Order{"ABCDEFGH", "GHEFCDAB", "BADCFEHG", "HGFEDCBA", "EFGHABCD", "CDABGHEF"}
	}
	return []Order{"AB"}
}
