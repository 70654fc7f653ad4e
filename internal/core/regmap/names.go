package regmap

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// NameRules lists the rules that names can be held to: those that are nobody's
// own, and those of the families.
func NameRules() []protocol.NameRule {
	return append([]protocol.NameRule{
		{Key: "iec61131", Title: "IEC 61131-3 variables", Allowed: func(i int, r rune) bool {
			return r == '_' || r < 0x80 && unicode.IsLetter(r) || i > 0 && r < 0x80 && unicode.IsDigit(r)
		}, Words: "letters, digits and underlines, no digit first", NoPairs: true},
		{Key: "ascii32", Title: "names of 32 plain characters", Most: 32,
			Allowed: func(_ int, r rune) bool { return r > 0x20 && r < 0x7F }, Words: "plain characters without blanks"},
	}, protocol.NameRules()...)
}

// lookAlike maps letters that are taken for each other to one of them; Greek
// and Cyrillic capitals look just like Latin ones.
var lookAlike = map[rune]rune{'0': 'o', '1': 'l', 'i': 'l', '|': 'l', '5': 's', 'а': 'a', 'в': 'b', 'е': 'e', 'к': 'k',
	'м': 'm', 'н': 'h', 'о': 'o', 'р': 'p', 'с': 'c', 'т': 't', 'х': 'x', 'α': 'a', 'β': 'b', 'ε': 'e', 'ι': 'l',
	'κ': 'k', 'μ': 'm', 'ν': 'n', 'ο': 'o', 'ρ': 'p', 'τ': 't', 'χ': 'x'}

// fold brings a name to what the eye sees: no case, no blanks and dashes, and,
// unless digits is set, look-alike characters as one.
func fold(to []byte, name string, digits bool) []byte {
	for _, r := range name {
		r = unicode.ToLower(r)
		if r == ' ' || r == '_' || r == '-' || r == '.' || r == '\u00a0' || r == '\u200b' {
			continue
		}
		if same, ok := lookAlike[r]; ok && (!digits || r > 0x7F) {
			r = same
		}
		to = utf8.AppendRune(to, r)
	}
	return to
}

// names finds names that stand twice, that are nearly equal, or that the far
// side cannot hold.
func (c *checker) names() {
	points := c.device.Points
	exact := make(map[string]*site.Point, len(points))
	nearly := make(map[string]*site.Point, len(points))
	alike := make(map[string]*site.Point, len(points))
	var rules []protocol.NameRule
	for _, rule := range NameRules() {
		if slices.Contains(c.device.NamesFor, rule.Key) {
			rules = append(rules, rule)
		}
	}
	var nearBuffer, lookBuffer [200]byte
	for i := range points {
		p := &points[i]
		near, look := fold(nearBuffer[:0], p.Name, true), fold(lookBuffer[:0], p.Name, false)
		var f *finding.Finding
		switch other := exact[p.Name]; {
		case other != nil:
			f = c.add(p, Name, finding.Fault, "name-twice", "Two points of one name",
				fmt.Sprintf("%s is also the name of the point at %s.", p.Name, c.scheme.Short(other.Address)),
				"Rename one of them.")
		case nearly[string(near)] != nil && strings.EqualFold(nearly[string(near)].Name, p.Name):
			f = c.add(p, Name, finding.Doubt, "name-case", "Names differ only in case",
				fmt.Sprintf("%s and %s differ only in capitals. Many devices take them for two names, some for one.",
					p.Name, nearly[string(near)].Name), "Rename one of them.")
		case nearly[string(near)] != nil:
			f = c.add(p, Name, finding.Doubt, "name-blanks", "Names differ only in blanks and dashes",
				fmt.Sprintf("%q and %q differ only in blanks, dashes, underlines or capitals.", p.Name,
					nearly[string(near)].Name), "Rename one of them.")
		case alike[string(look)] != nil && (hasForeign(p.Name) != hasForeign(alike[string(look)].Name) ||
			mixed(p.Name, alike[string(look)].Name)):
			f = c.add(p, Name, finding.Doubt, "name-look-alike", "Names look alike",
				fmt.Sprintf("%q and %q are told apart only by letters that look the same, such as O and 0 or l and 1.",
					p.Name, alike[string(look)].Name), "Rename one of them.")
		}
		if f != nil {
			name := c.freeName(p.Name)
			c.fix(f, "Rename it to "+name, p, Name, name)
		}
		exact[p.Name] = p
		if nearly[string(near)] == nil {
			nearly[string(near)] = p
		}
		if alike[string(look)] == nil {
			alike[string(look)] = p
		}
		for r := range rules {
			c.suits(p, &rules[r])
		}
	}
}

// freeName counts a name on until no point of the map has it.
func (c *checker) freeName(name string) string {
	if c.taken == nil {
		c.taken = make(map[string]bool, len(c.device.Points))
		for i := range c.device.Points {
			c.taken[c.device.Points[i].Name] = true
		}
	}
	for n := 2; ; n++ {
		if free := fmt.Sprintf("%s_%d", name, n); !c.taken[free] {
			c.taken[free] = true
			return free
		}
	}
}

func (c *checker) suits(p *site.Point, rule *protocol.NameRule) {
	ok, why := rule.Holds(p.Name)
	if ok {
		return
	}
	f := c.add(p, Name, finding.Doubt, "name-far-side", "A name that the far side cannot hold",
		fmt.Sprintf("%s cannot be a name for %s: %s.", p.Name, rule.Title, why),
		"Rename it, or give it another name on the far side.")
	if fitted := rule.Fit(p.Name); fitted != "" && fitted != p.Name {
		c.fix(f, "Rename it to "+fitted, p, Name, fitted)
	}
}

func hasForeign(name string) bool {
	for _, r := range name {
		if _, ok := lookAlike[unicode.ToLower(r)]; ok && r > 0x7F {
			return true
		}
	}
	return false
}

// mixed reports whether two names that look alike differ by a letter against a
// digit next to letters, rather than by their numbers: LevelO and Level0, but
// not Tank10 and Tank1O's own kind such as Tank11 and Tank1l.
func mixed(a, b string) bool {
	ra, rb := []rune(a), []rune(b)
	if len(ra) != len(rb) {
		return false
	}
	for i := range ra {
		if unicode.IsDigit(ra[i]) != unicode.IsDigit(rb[i]) {
			return true
		}
	}
	return false
}
