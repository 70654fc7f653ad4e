package charset_test

import (
	"testing"
	"unicode/utf8"

	"ferry/internal/core/charset"
)

func TestText(t *testing.T) {
	for name, c := range map[string]struct{ data, want string }{
		"UTF-8":               {"Zähler 1 °C", "Zähler 1 °C"},
		"with its mark":       {"\xEF\xBB\xBFZähler", "Zähler"},
		"Latin-1":             {"Z\xe4hler \xb0C", "Zähler °C"},
		"Windows-1252":        {"Row \x96 5 \x80", "Row – 5 €"},
		"no character of it":  {"a\x81\xe4", "a\uFFFDä"},
		"UTF-16":              {"\xFF\xFEZ\x00\xe4\x00\t\x00\x3d\xd8\x1f\xdc", "Zä\t🐟"},
		"UTF-16 from the top": {"\xFE\xFF\x00Z\x00\xe4", "Zä"},
		"half a unit":         {"\xFF\xFEZ\x00x", "Z\uFFFD"},
		"half a pair":         {"\xFF\xFE\x3d\xd8", "\uFFFD"},
		"nothing":             {"", ""},
		"a mark alone":        {"\xFE\xFF", ""},
	} {
		if got := charset.Text([]byte(c.data)); got != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}

func FuzzText(f *testing.F) {
	f.Add([]byte("\xFF\xFEZ\x00\xe4"))
	f.Add([]byte("Z\xe4hler"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if !utf8.ValidString(charset.Text(data)) {
			t.Error("it is no text")
		}
	})
}
