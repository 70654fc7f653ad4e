package mqtt

import (
	"cmp"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"ferry/internal/core/address"
	"ferry/internal/core/value"
)

// Space is the space of addresses that name a topic, and where in a payload of JSON
// the value is: "skerry/row-a/do11", or "skerry/row-a/do11 $.oxygen.value".
const Space = "topic"

// mostTopic bounds a topic in octets of UTF-8 (MQTT 3.1.1, clause 4.7.3).
const mostTopic = 65535

type scheme struct{}

// Scheme is the addressing of MQTT.
var Scheme address.Scheme = scheme{}

// Place is an address of MQTT, taken apart.
type Place struct {
	Topic string
	// Path leads to the value in a payload of JSON: the names of members, from the
	// outside in. It is empty where the payload is the value.
	Path []string
}

// PlaceOf takes an address apart.
func PlaceOf(a address.Address) Place {
	_, name, _ := a.Name()
	topic, path, found := strings.Cut(name, " $.")
	if !found {
		return Place{Topic: name}
	}
	return Place{topic, strings.Split(path, ".")}
}

func (scheme) Parse(text, _ string) (address.Address, error) {
	text = strings.TrimSpace(text)
	topic, path, found := strings.Cut(text, "$.")
	topic = strings.TrimSpace(topic)
	if strings.HasPrefix(text, "$") && !found || topic == "" && !found {
		topic = text
	}
	if err := CheckTopic(topic); err != nil {
		return address.Address{}, fmt.Errorf("address %s: %w", text, err)
	}
	if !found {
		return address.Named(Space, topic), nil
	}
	for member := range strings.SplitSeq(path, ".") {
		if strings.TrimSpace(member) == "" {
			return address.Address{},
				fmt.Errorf("address %s: the path into the payload has an empty name: write it as $.oxygen.value", text)
		}
	}
	return address.Named(Space, topic+" $."+path), nil
}

// CheckTopic says why a text is no topic that anything can be published to.
func CheckTopic(topic string) error {
	switch {
	case topic == "":
		return errors.New("the topic is missing: write it as skerry/row-a/do11/oxygen")
	case strings.ContainsAny(topic, "+#"):
		return errors.New("+ and # stand for several topics: name one")
	case strings.ContainsRune(topic, 0) || !utf8.ValidString(topic):
		return errors.New("the topic holds a character that is none")
	case len(topic) > mostTopic:
		return fmt.Errorf("the topic has %d octets: %d are the most", len(topic), mostTopic)
	}
	return nil
}

// Covers reports whether a filter holds a topic (MQTT 5, clause 4.7): + stands for one
// level, # for all that follow, and neither for a first level that begins with $.
func Covers(filter, topic string) bool {
	f, t := strings.Split(filter, "/"), strings.Split(topic, "/")
	if strings.HasPrefix(topic, "$") && !strings.HasPrefix(filter, "$") {
		return false
	}
	for i, level := range f {
		switch {
		case level == "#":
			return true
		case i >= len(t), level != "+" && level != t[i]:
			return false
		}
	}
	return len(f) == len(t)
}

func (scheme) Short(a address.Address) string {
	_, name, _ := a.Name()
	return name
}

func (s scheme) Notations(a address.Address) []address.Notation {
	p := PlaceOf(a)
	list := []address.Notation{{Name: "topic", Text: p.Topic}}
	if len(p.Path) > 0 {
		list = append(list, address.Notation{Name: "in the payload", Text: "$." + strings.Join(p.Path, ".")})
	}
	return list
}

func (s scheme) Compare(a, b address.Address) int {
	return cmp.Or(cmp.Compare(s.Short(a), s.Short(b)), address.Compare(a, b))
}

func (s scheme) Check(a address.Address, shape value.Shape) error {
	space, _, ok := a.Name()
	if !ok || space != Space {
		return fmt.Errorf("address %s is no topic", a)
	}
	if shape.Type == value.TypeBits {
		return errors.New("a payload holds no field of bits: give it a whole number")
	}
	return CheckTopic(PlaceOf(a).Topic)
}
