package markup

import (
	"strings"
	"testing"
)

// TestRead: elements come in order with their text, and what is no plain XML is refused with its line.
func TestRead(t *testing.T) {
	var got []string
	err := Read([]byte("<a xmlns='x'><b id='1'>one</b>\n<b id='2'><c/>two</b></a>"), func(e *Element) error {
		got = append(got, "<"+strings.Join(e.Path, "/")+" "+e.Attr("id"))
		return nil
	}, func(e *Element, text string) error {
		if e.Name == "b" && !e.Within("a") || e.Within("b") != (e.Name == "c") {
			t.Errorf("%v is within otherwise", e.Path)
		}
		got = append(got, text+">")
		return nil
	})
	if want := "<a |<a/b 1|one>|<a/b 2|<a/b/c |>|two>|>"; err != nil || strings.Join(got, "|") != want {
		t.Errorf("%v\n%s\n%s", err, strings.Join(got, "|"), want)
	}
	for text, says := range map[string]string{
		"<!DOCTYPE a [<!ENTITY x SYSTEM 'file:///etc/passwd'>]><a>&x;</a>": "declares a document type",
		"<a>&x;</a>": "no XML", "<a>\n<b></a>": "line 2", "<a>": "ends before", "": "ends before",
		strings.Repeat("<a>", 100): "60 deep", "<a b=>": "no XML",
	} {
		if err := Read([]byte(text), nil, nil); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%.40s: %v, want %s", text, err, says)
		}
	}
}
