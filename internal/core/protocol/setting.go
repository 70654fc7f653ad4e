package protocol

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// End says which end of a link has a setting.
type End string

// A setting belongs to both ends, and must then agree, or to one of them.
const (
	BothEnds  End = "both"
	Asking    End = "asking"
	Answering End = "answering"
)

// Kind says what a setting holds.
type Kind string

// The kinds of settings. A secret and a file are kept apart from the site: the
// setting holds the name under which.
const (
	Number Kind = "number" // a whole number from Least to Most
	Text   Kind = "text"   // that Pattern matches
	Choice Kind = "choice" // one of Choices
	Switch Kind = "switch" // on or off
	Secret Kind = "secret" // the name of a secret
	File   Kind = "file"   // the name of a file
)

// Option is one value of a choice.
type Option struct {
	Value string `json:"value"`
	Title string `json:"title"`
}

// Setting is one thing that an end of a link is set to.
type Setting struct {
	Key   string `json:"key"`
	Title string `json:"title"`
	Kind  Kind   `json:"kind"` // Number if left empty
	End   End    `json:"end"`
	Unit  string `json:"unit,omitempty"`
	// Default is what holds where nothing is set, of the setting's kind.
	Default Scalar `json:"default"`
	// Least and Most bound a number, and the characters of a text if Most is
	// not 0.
	Least int `json:"least"`
	Most  int `json:"most"`
	// Pattern must match the whole of a text, and Like is what such a text looks
	// like. A text may be empty where Least is 0.
	Pattern string   `json:"pattern,omitempty"`
	Like    string   `json:"like,omitempty"`
	Choices []Option `json:"choices,omitempty"`
	// Help says in a sentence where to find it, or what it does.
	Help string `json:"help,omitempty"`
	// Stop is the stop of the route at which a mismatch shows, and Shows says
	// how, as a clause: "the connection is refused".
	Stop  string `json:"stop"`
	Shows string `json:"shows,omitempty"`

	pattern *regexp.Regexp
}

// complete makes a setting ready to check values.
func (s *Setting) complete() {
	if s.Kind == "" {
		s.Kind = Number
	}
	if s.Pattern != "" {
		s.pattern = regexp.MustCompile("^(?:" + s.Pattern + ")$")
	}
	if s.Default.kind == "" {
		s.Default = zeroOf[s.Kind]
	}
}

var zeroOf = map[Kind]Scalar{Number: OfInt(0), Text: OfText(""), Choice: OfText(""), Switch: OfSwitch(false),
	Secret: OfText(""), File: OfText("")}

// mostText bounds a text of which the setting says nothing else.
const mostText = 1000

// Check says why a value cannot be one of the setting; nil if it can.
func (s *Setting) Check(v Scalar) error {
	if want := zeroOf[s.Kind].kind; v.kind != want {
		return fmt.Errorf("%s is %s: give a %s", s.Title, v,
			map[string]string{"n": "whole number", "t": "text", "s": "switch, on or off"}[want])
	}
	switch s.Kind {
	case Number:
		if v.n < s.Least || v.n > s.Most {
			return fmt.Errorf("%s is %d: give %d to %d", s.Title, v.n, s.Least, s.Most)
		}
	case Choice:
		if !slices.ContainsFunc(s.Choices, func(o Option) bool { return o.Value == v.text }) {
			return fmt.Errorf("%s is %q: choose %s", s.Title, v.text, s.offered())
		}
	case Text, Secret, File:
		most := s.Most
		if most == 0 {
			most = mostText
		}
		long := utf8.RuneCountInString(v.text)
		switch {
		case long < s.Least:
			return fmt.Errorf("%s is missing: give it", s.Title)
		case long > most:
			return fmt.Errorf("%s has %d characters: give up to %d", s.Title, long, most)
		case strings.ContainsFunc(v.text, func(r rune) bool { return r < ' ' || r == utf8.RuneError }):
			return fmt.Errorf("%s holds a character that is none", s.Title)
		case s.pattern != nil && v.text != "" && !s.pattern.MatchString(v.text):
			return fmt.Errorf("%s is %q: write it as %s", s.Title, v.text, s.Like)
		}
	}
	return nil
}

func (s *Setting) offered() string {
	titles := make([]string, len(s.Choices))
	for i, o := range s.Choices {
		titles[i] = o.Value
	}
	return strings.Join(titles, ", ")
}

// Read reads a value of the setting as a person writes it.
func (s *Setting) Read(text string) (Scalar, error) {
	v := OfText(text)
	switch s.Kind {
	case Number:
		n, err := strconv.Atoi(text)
		if err != nil {
			return Scalar{}, fmt.Errorf("%s is %q: give %d to %d", s.Title, text, s.Least, s.Most)
		}
		v = OfInt(n)
	case Switch:
		switch strings.ToLower(text) {
		case "on", "yes", "true", "1":
			v = OfSwitch(true)
		case "off", "no", "false", "0":
			v = OfSwitch(false)
		}
	}
	return v, s.Check(v)
}

// Scalar is the value of a setting: a whole number, a text or a switch. It is
// comparable; the zero Scalar is none.
type Scalar struct {
	kind string // n, t or s
	n    int
	text string
}

// OfInt returns a whole number.
func OfInt(n int) Scalar { return Scalar{kind: "n", n: n} }

// OfText returns a text.
func OfText(text string) Scalar { return Scalar{kind: "t", text: text} }

// OfSwitch returns a switch.
func OfSwitch(on bool) Scalar {
	if on {
		return Scalar{kind: "s", n: 1}
	}
	return Scalar{kind: "s"}
}

// Int returns a whole number, 0 for anything else.
func (v Scalar) Int() int {
	if v.kind == "n" {
		return v.n
	}
	return 0
}

// Text returns a text, empty for anything else.
func (v Scalar) Text() string { return v.text }

// On reports whether v is a switch that is on.
func (v Scalar) On() bool { return v.kind == "s" && v.n == 1 }

// IsNone reports whether v is no value at all.
func (v Scalar) IsNone() bool { return v.kind == "" }

// String prints v as a person reads it.
func (v Scalar) String() string {
	switch v.kind {
	case "n":
		return strconv.Itoa(v.n)
	case "s":
		return map[bool]string{true: "on", false: "off"}[v.On()]
	case "t":
		return v.text
	}
	return "nothing"
}

// MarshalJSON writes a number, a string, a bool, or null for none.
func (v Scalar) MarshalJSON() ([]byte, error) {
	switch v.kind {
	case "n":
		return json.Marshal(v.n)
	case "s":
		return json.Marshal(v.On())
	case "t":
		return json.Marshal(v.text)
	}
	return []byte("null"), nil
}

// UnmarshalJSON reads what MarshalJSON writes.
func (v *Scalar) UnmarshalJSON(data []byte) error {
	var read any
	if err := json.Unmarshal(data, &read); err != nil {
		return err
	}
	switch read := read.(type) {
	case string:
		*v = OfText(read)
	case bool:
		*v = OfSwitch(read)
	case float64:
		if read != float64(int(read)) || read > 1<<53 || read < -(1<<53) {
			return fmt.Errorf("%s is no whole number: a setting is one, a text, or true or false", data)
		}
		*v = OfInt(int(read))
	case nil:
		*v = Scalar{}
	default:
		return fmt.Errorf("%.40s is no value of a setting: write a whole number, a text, or true or false", data)
	}
	return nil
}

// Settings are what an end of a link is set to, by the keys of its protocol. A
// key that is missing stands for the default.
type Settings map[string]Scalar

// Numbers makes settings of whole numbers.
func Numbers(values map[string]int) Settings {
	set := make(Settings, len(values))
	for key, n := range values {
		set[key] = OfInt(n)
	}
	return set
}

// With returns the settings with one of them changed.
func (s Settings) With(key string, v Scalar) Settings {
	changed := make(Settings, len(s)+1)
	for k, was := range s {
		changed[k] = was
	}
	changed[key] = v
	return changed
}

// Keys of settings that several families have, and that those who ask, plan and
// judge know by them.
const (
	KeyPort      = "port"      // of TCP or UDP
	KeyWithin    = "timeoutMs" // time limit of an answer
	KeyRetries   = "retries"   // how often a request is sent again
	KeyRestAfter = "restAfter" // silent tries after which a device is left alone
	KeyRestS     = "restS"     // and for how long
	KeyThink     = "thinkMs"   // how long the answering end thinks
	KeyCycle     = "cycleMs"   // period in which alone it answers
	KeyAtOnce    = "atOnce"    // requests under way together
)

// Setting finds a setting by its key.
func (d *Def) Setting(key string) (Setting, bool) {
	if d == nil {
		return Setting{}, false
	}
	i := slices.IndexFunc(d.Settings, func(s Setting) bool { return s.Key == key })
	if i < 0 {
		return Setting{}, false
	}
	return d.Settings[i], true
}

// Value returns the setting key from values, or its default; none if the
// protocol has no such setting.
func (d *Def) Value(values Settings, key string) Scalar {
	if v, ok := values[key]; ok {
		return v
	}
	s, _ := d.Setting(key)
	return s.Default
}

// Int is Value for a whole number.
func (d *Def) Int(values Settings, key string) int { return d.Value(values, key).Int() }

// StationOf returns the number that tells an end apart from others on its line
// or behind its address; ok is false where the protocol has none.
func (d *Def) StationOf(values Settings) (n int, ok bool) {
	if d == nil || d.Station == "" {
		return 0, false
	}
	return d.Int(values, d.Station), true
}

// StationWord is the protocol's word for a station, in small letters: "unit";
// "device" where it has none.
func (d *Def) StationWord() string {
	if d != nil && d.Station != "" {
		if s, ok := d.Setting(d.Station); ok {
			return strings.ToLower(s.Title)
		}
	}
	return "device"
}

// StationWords names an end by its station: "unit 5"; empty where the protocol
// has none.
func (d *Def) StationWords(values Settings) string {
	n, ok := d.StationOf(values)
	if !ok {
		return ""
	}
	s, _ := d.Setting(d.Station)
	return fmt.Sprintf("%s %d", strings.ToLower(s.Title), n)
}

// StationOf is Def.StationOf in words, for a protocol by its name: empty where
// it has none.
func StationOf(name string, values Settings) string {
	d, _ := Named(name)
	if n, ok := d.StationOf(values); ok {
		return strconv.Itoa(n)
	}
	return ""
}

// CheckSettings reports the first value, by its key, that is unknown or out of
// range.
func (d *Def) CheckSettings(values Settings) error {
	keys := make([]string, 0, len(values))
	for key := range values {
		keys = append(keys, key)
	}
	slices.Sort(keys)
	for _, key := range keys {
		s, ok := d.Setting(key)
		if !ok {
			return fmt.Errorf("%s has no setting %q", d.Title, key)
		}
		if err := s.Check(values[key]); err != nil {
			return err
		}
	}
	return nil
}
