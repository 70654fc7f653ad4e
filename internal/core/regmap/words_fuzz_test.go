package regmap

import (
	"fmt"
	"strings"
	"testing"
)

// FuzzWords: words that are read are printed as words that are read alike.
func FuzzWords(f *testing.F) {
	for _, text := range []string{"9F3A 4148", "0x0001,#65535", "#-1", "12", "00010002", "zz", "0x"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		words, err := ParseWords(text)
		if err != nil {
			return
		}
		printed := make([]string, len(words))
		for i, w := range words {
			printed[i] = fmt.Sprintf("%04X", w)
		}
		if back, err := ParseWords(strings.Join(printed, " ")); err != nil || fmt.Sprint(back) != fmt.Sprint(words) {
			t.Errorf("%q is read as %v, and that as %v, %v", text, words, back, err)
		}
	})
}
