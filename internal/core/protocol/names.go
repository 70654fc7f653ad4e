package protocol

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// NameRule says which names a far side can hold. Families register those of
// theirs.
type NameRule struct {
	Key   string `json:"key"` // as in files
	Title string `json:"title"`
	// Most is the greatest length in characters, 0 for none.
	Most int `json:"most"`
	// Allowed reports whether a character may stand at a place of a name, and Words
	// says which may.
	Allowed func(i int, r rune) bool `json:"-"`
	Words   string                   `json:"-"`
	// NoPairs is set where no two underlines may stand in a row.
	NoPairs bool `json:"-"`
}

var nameRules []NameRule

// RegisterNames adds the rule of a family. Doing so twice is a programming error.
func RegisterNames(r NameRule) {
	if slices.ContainsFunc(nameRules, func(other NameRule) bool { return other.Key == r.Key }) {
		panic("name rule registered twice: " + r.Key)
	}
	nameRules = append(nameRules, r)
}

// NameRules lists the rules of the families, by key.
func NameRules() []NameRule {
	return slices.SortedFunc(slices.Values(nameRules), func(a, b NameRule) int { return cmp.Compare(a.Key, b.Key) })
}

// Holds reports whether a name suits the rule, and why not.
func (r *NameRule) Holds(name string) (bool, string) {
	if n := utf8.RuneCountInString(name); r.Most > 0 && n > r.Most {
		return false, fmt.Sprintf("it has %d characters, and %s hold %d", n, r.Title, r.Most)
	}
	for i, ch := range name {
		if !r.Allowed(i, ch) {
			return false, fmt.Sprintf("%q does not fit %s: %s", ch, r.Title, r.Words)
		}
	}
	if r.NoPairs && strings.Contains(name, "__") {
		return false, r.Title + " have no two underlines in a row"
	}
	return true, ""
}

// Fit returns a name that suits the rule and is as near to name as may be.
func (r *NameRule) Fit(name string) string {
	var b strings.Builder
	for _, ch := range spellOut.Replace(name) {
		switch {
		case r.Allowed(b.Len(), ch):
			b.WriteRune(ch)
		case b.Len() == 0 && r.Allowed(1, ch) && r.Allowed(0, '_'):
			b.WriteByte('_')
			b.WriteRune(ch)
		case r.Allowed(b.Len(), '_') && !strings.HasSuffix(b.String(), "_"):
			b.WriteByte('_')
		}
	}
	fitted := b.String()
	for r.NoPairs && strings.Contains(fitted, "__") {
		fitted = strings.ReplaceAll(fitted, "__", "_")
	}
	if r.Most > 0 && utf8.RuneCountInString(fitted) > r.Most {
		fitted = string([]rune(fitted)[:r.Most])
	}
	return fitted
}

var spellOut = strings.NewReplacer("ä", "ae", "ö", "oe", "ü", "ue", "Ä", "Ae", "Ö", "Oe", "Ü", "Ue", "ß", "ss",
	"é", "e", "è", "e", "å", "a", "ø", "o", "µ", "u", "²", "2", "³", "3", "°", "deg", "%", "pct")
