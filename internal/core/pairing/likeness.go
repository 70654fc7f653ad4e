package pairing

import (
	"strings"
	"unicode"
)

// words are the words of a name, in small letters, with what they count for.
type words struct {
	set     map[string]float64
	numbers map[string]bool
	whole   float64
}

// synonyms are words that people use for one thing.
var synonyms = map[string]string{"temp": "temperature", "tmp": "temperature", "press": "pressure", "lvl": "level",
	"lev": "level",
	"o2":  "oxygen", "do": "oxygen", "oxy": "oxygen", "spd": "speed", "freq": "frequency", "cur": "current",
	"curr": "current",
	"volt": "voltage", "pwr": "power", "sp": "setpoint", "pv": "value", "run": "running", "tot": "total", "flw": "flow",
	"alm": "alarm", "cmd": "command", "pos": "position", "vlv": "valve", "pmp": "pump", "wtr": "water", "sts": "status",
	"stat": "status", "hrs": "hours"}

// wordsOf takes a name apart: at signs, where small letters turn to large ones, and
// where numbers begin and end. The words of a device count less than those of the
// point itself, and only on the shore where it tells points apart.
func wordsOf(device, name string, withDevice bool) words {
	w := words{set: map[string]float64{}, numbers: map[string]bool{}}
	add := func(text string, counts float64) {
		for _, word := range split(text) {
			if full := synonyms[word]; full != "" {
				word = full
			}
			if word[0] >= '0' && word[0] <= '9' {
				word = strings.TrimLeft(word, "0")
				if word == "" {
					word = "0"
				}
				w.numbers[word] = true
			}
			if counts > w.set[word] {
				w.set[word] = counts
			}
		}
	}
	if withDevice {
		add(device, 0.5)
	}
	add(name, 1)
	for _, counts := range w.set {
		w.whole += counts
	}
	return w
}

func split(text string) (list []string) {
	var word []rune
	end := func() {
		if len(word) > 0 {
			list = append(list, strings.ToLower(string(word)))
			word = word[:0]
		}
	}
	runes := []rune(text)
	for i, r := range runes {
		switch {
		case unicode.IsDigit(r):
			if len(word) > 0 && !unicode.IsDigit(word[len(word)-1]) && !(i == 1 && len(word) == 1) {
				end()
			}
			word = append(word, r)
		case unicode.IsLetter(r):
			last := rune(0)
			if len(word) > 0 {
				last = word[len(word)-1]
			}
			if unicode.IsDigit(last) || unicode.IsUpper(r) && unicode.IsLower(last) ||
				unicode.IsUpper(r) && unicode.IsUpper(last) && i+1 < len(runes) && unicode.IsLower(runes[i+1]) {
				end()
			}
			word = append(word, r)
		default:
			end()
		}
	}
	end()
	return list
}

// like is how alike two names are, from 0 to 1. A number that only one of them has
// is worth more than a word: probe 11 is not probe 12.
func (w words) like(far words) float64 {
	common := 0.0
	for word := range far.set {
		if counts, ok := w.set[word]; ok {
			common += max(counts, 0.75)
			continue
		}
		if len(word) >= 3 {
			for other := range w.set { // an abbreviation, or a longer form
				if len(other) >= 3 && (strings.HasPrefix(other, word) || strings.HasPrefix(word, other)) {
					common += 0.6
					break
				}
			}
		}
	}
	for n := range far.numbers {
		if !w.numbers[n] {
			return 0
		}
	}
	score := common / max(float64(len(far.set)), 1)
	own := 0.0
	for word, counts := range w.set {
		if counts < 1 {
			continue
		}
		if _, ok := far.set[word]; !ok && !w.numbers[word] {
			own += 0.15
		} else if !ok {
			own += 0.3 // a number of its own name that the far side does not have
		}
	}
	return max(0, min(1, score)-own)
}
