// Package dnp3 has the rules of DNP3 (IEEE 1815): how objects are named, what both ends are set
// to, what flags, indications and statuses mean, and what polls cost.
package dnp3

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/value"
)

// Space is the space of addresses that name an object: a Kind and an index, as in "ai3".
const Space = "object"

// Kind is a kind of object, by which points are told apart that have the same index.
type Kind byte

// The kinds of objects (IEEE 1815, clause 11.9), in the order of their groups.
const (
	NoKind Kind = iota
	BinaryInput
	DoubleInput
	BinaryOutput
	Counter
	FrozenCounter
	AnalogInput
	AnalogOutput
	OctetString
)

// kinds are their letters and words, the groups of what stands there now, of what happened to it,
// and of commands, and what a point of the kind holds.
var kinds = [...]struct {
	short, title           string
	static, event, command byte
	holds                  value.Type
}{
	NoKind:        {},
	BinaryInput:   {"bi", "binary input", 1, 2, 0, value.TypeBool},
	DoubleInput:   {"dbi", "double-bit binary input", 3, 4, 0, value.TypeUint8},
	BinaryOutput:  {"bo", "binary output", 10, 11, 12, value.TypeBool},
	Counter:       {"ctr", "counter", 20, 22, 0, value.TypeUint32},
	FrozenCounter: {"fctr", "frozen counter", 21, 23, 0, value.TypeUint32},
	AnalogInput:   {"ai", "analogue input", 30, 32, 0, value.TypeFloat32},
	AnalogOutput:  {"ao", "analogue output", 40, 42, 41, value.TypeFloat32},
	OctetString:   {"str", "octet string", 110, 111, 0, value.TypeText},
}

// Kinds lists all kinds.
func Kinds() (list []Kind) {
	for k := BinaryInput; k <= OctetString; k++ {
		list = append(list, k)
	}
	return list
}

// Short is how a kind is written before an index, Title its name.
func (k Kind) Short() string { return kinds[k].short }

// Title is as Short.
func (k Kind) Title() string { return kinds[k].title }

// Holds is the type of points of a kind where nobody says another.
func (k Kind) Holds() value.Type { return kinds[k].holds }

// Static is the group of what stands there now, Event that of what happened, and Command that by
// which it is operated, 0 for none.
func (k Kind) Static() byte { return kinds[k].static }

// Event is as Static.
func (k Kind) Event() byte { return kinds[k].event }

// Command is as Static.
func (k Kind) Command() byte { return kinds[k].command }

// KindOf is the kind of which a group tells, commands and what came of them included; event is set
// for groups of what happened.
func KindOf(group byte) (k Kind, event bool) {
	for k := BinaryInput; k <= OctetString; k++ {
		switch of := kinds[k]; group {
		case of.static, of.event:
			return k, group == of.event
		case of.command:
			if group != 0 {
				return k, false
			}
		}
	}
	switch group {
	case 13: // commands of binary outputs, as events
		return BinaryOutput, true
	case 43:
		return AnalogOutput, true
	}
	return NoKind, false
}

// How says what a command does to a binary output.
type How string

// The ways of operating a binary output (clause 11.8.1): it stays as it is told, it gives a pulse,
// or it has two relays, of which one closes and the other trips.
const (
	Latch How = ""
	Pulse How = "pulse"
	Trip  How = "trip"
)

// Object is an address taken apart.
type Object struct {
	Kind  Kind
	Index uint32
	How   How // of binary outputs
}

// mostIndex bounds an index: those of commands and events have two octets.
const mostIndex = math.MaxUint16

// String prints an object as "ai3", with how it is operated behind a point.
func (o Object) String() string {
	text := o.Kind.Short() + strconv.FormatUint(uint64(o.Index), 10)
	if o.How != Latch {
		text += "." + string(o.How)
	}
	return text
}

// Address returns the object as an address.
func (o Object) Address() address.Address { return address.Named(Space, o.String()) }

// ObjectOf takes an address apart; ok is false for one of another space.
func ObjectOf(a address.Address) (o Object, ok bool) {
	space, name, ok := a.Name()
	if !ok || space != Space {
		return Object{}, false
	}
	o, err := ParseObject(name, NoKind)
	return o, err == nil
}

// words are what lists call the kinds, in small letters without anything between them.
var words = func() map[string]Kind {
	all := map[string]Kind{
		"analoginput": AnalogInput, "analoginputs": AnalogInput, "ain": AnalogInput, "an": AnalogInput, "analog": AnalogInput,
		"analogue": AnalogInput, "binary": BinaryInput, "binaryinput": BinaryInput, "bin": BinaryInput,
		"digitalinput": BinaryInput,
		"di":           BinaryInput, "singlebitbinaryinput": BinaryInput, "doublebit": DoubleInput, "doublebitinput": DoubleInput,
		"doublebitbinary": DoubleInput, "db": DoubleInput, "dbbi": DoubleInput, "do": BinaryOutput,
		"digitaloutput": BinaryOutput,
		"binaryoutput":  BinaryOutput, "binaryoutputstatus": BinaryOutput, "crob": BinaryOutput, "bos": BinaryOutput,
		"controlrelayoutputblock": BinaryOutput, "analogoutput": AnalogOutput, "analogoutputstatus": AnalogOutput,
		"aos": AnalogOutput, "aout": AnalogOutput, "runningcounter": Counter, "binarycounter": Counter, "cnt": Counter,
		"ct": Counter,
		"ci": Counter, "frozen": FrozenCounter, "frozencounter": FrozenCounter, "fct": FrozenCounter, "fc": FrozenCounter,
		"octetstring": OctetString, "string": OctetString, "os": OctetString, "oct": OctetString}
	for _, k := range Kinds() {
		all[k.Short()], all[squeeze(k.Title())], all[squeeze(k.Title())+"s"] = k, k, k
	}
	return all
}()

var squeezer = strings.NewReplacer(" ", "", "-", "", "_", "", ":", "", "[", "", "]", "", "#", "", ".", "", ",", "")

func squeeze(text string) string { return squeezer.Replace(strings.ToLower(text)) }

// KindCalled is the kind that lists call so.
func KindCalled(text string) (Kind, bool) {
	text = squeeze(text)
	if k, ok := words[text]; ok {
		return k, true
	}
	text = strings.TrimPrefix(strings.TrimPrefix(text, "group"), "obj")
	group, variation, _ := strings.Cut(strings.TrimPrefix(text, "g"), "v")
	n, err := strconv.ParseUint(group, 10, 8)
	if _, bad := strconv.ParseUint(variation, 10, 8); err != nil || variation != "" && bad != nil {
		return NoKind, false
	}
	k, _ := KindOf(byte(n))
	return k, k != NoKind
}

// ParseObject reads an object: "ai3", "analogue input 3", "30:3" (by the group), and of a bare
// number one of the kind that is meant where nobody says.
func ParseObject(text string, meant Kind) (o Object, err error) {
	text = strings.TrimSpace(text)
	fail := func(why string) (Object, error) { return Object{}, fmt.Errorf("address %s: %s", text, why) }
	rest := text
	if before, how, found := strings.Cut(text, "."); found {
		if o.How = How(strings.ToLower(how)); o.How != Pulse && o.How != Trip {
			return fail("behind the point of a binary output comes how it is operated: pulse or trip")
		}
		rest = before
	}
	at := strings.LastIndexFunc(strings.TrimRight(rest, "] "), func(r rune) bool { return r < '0' || r > '9' })
	index := strings.TrimRight(rest[at+1:], "] ")
	n, err := strconv.ParseUint(index, 10, 32)
	if err != nil || n > mostIndex {
		return fail(fmt.Sprintf("it is a kind of object and an index from 0 to %d: ai3, bi0, ctr12, or 30:3", mostIndex))
	}
	o.Index = uint32(n)
	if kind := strings.TrimRight(rest[:at+1], " :[#"); kind == "" {
		o.Kind = meant
	} else if k, ok := KindCalled(kind); ok {
		o.Kind = k
	}
	switch {
	case o.Kind == NoKind && at < 0:
		return fail("say of which kind it is: ai" + index + ", bi" + index + " or ctr" + index)
	case o.Kind == NoKind:
		return fail("its kind is none of " + shorts())
	case o.How != Latch && o.Kind != BinaryOutput:
		return fail("only binary outputs are operated with pulse or trip")
	}
	return o, nil
}

func shorts() string {
	var list []string
	for _, k := range Kinds() {
		list = append(list, k.Short())
	}
	return strings.Join(list, ", ")
}

type scheme struct{}

// Scheme is the addressing of DNP3.
var Scheme address.Scheme = scheme{}

func (scheme) Parse(text, hint string) (address.Address, error) {
	meant, _ := KindCalled(hint)
	o, err := ParseObject(text, meant)
	if err != nil {
		return address.Address{}, err
	}
	return o.Address(), nil
}

func (scheme) Short(a address.Address) string {
	_, name, _ := a.Name()
	return name
}

func (scheme) Notations(a address.Address) []address.Notation {
	o, ok := ObjectOf(a)
	if !ok {
		return nil
	}
	return []address.Notation{{Name: "kind and index", Text: o.String()},
		{Name: "group and index", Text: fmt.Sprintf("%d:%d", o.Kind.Static(), o.Index)},
		{Name: "in words", Text: fmt.Sprintf("%s %d", o.Kind.Title(), o.Index)}}
}

func (s scheme) Compare(a, b address.Address) int {
	one, _ := ObjectOf(a)
	other, _ := ObjectOf(b)
	return cmp.Or(cmp.Compare(one.Kind, other.Kind), cmp.Compare(one.Index, other.Index), cmp.Compare(one.How, other.How),
		address.Compare(a, b))
}

// unmistakable is a kind with an index right behind it, or with a range of them.
var unmistakable = regexp.MustCompile(`(?i)^(bi|dbi|bo|ctr|fctr|ai|ao|str)\s?\d{1,5}(\s*(\.\.+|-|–)\s*\d{1,5}|\.pulse|\.trip)?$`)

// Unmistakable reports whether a text can hardly be anything but an object.
func (scheme) Unmistakable(text string) bool {
	return unmistakable.MatchString(strings.TrimSpace(text))
}

func (scheme) Check(a address.Address, shape value.Shape) error {
	o, ok := ObjectOf(a)
	switch {
	case !ok:
		return fmt.Errorf("address %s is no object", a)
	case shape.Type == value.TypeBits:
		return errors.New("an object is no field of bits: give it a whole number")
	case o.Kind == OctetString && !shape.Type.IsText() && shape.Type != "":
		return errors.New("an octet string holds a text: give it the type text")
	case o.Kind != OctetString && shape.Type.IsText():
		return fmt.Errorf("a %s holds no text", o.Kind.Title())
	}
	return nil
}

// KindNamed, Holds and Behind are those of address.Kinds.
func (scheme) KindNamed(word string) (hint string, ok bool) {
	k, ok := KindCalled(word)
	return k.Short(), ok
}

// Holds is as KindNamed.
func (scheme) Holds(a address.Address) value.Type {
	o, _ := ObjectOf(a)
	return o.Kind.Holds()
}

// Behind is as KindNamed.
func (scheme) Behind(a address.Address, n int) (address.Address, bool) {
	o, ok := ObjectOf(a)
	if !ok || n < 0 || uint64(o.Index)+uint64(n) > mostIndex {
		return address.Address{}, false
	}
	o.Index += uint32(n)
	return o.Address(), true
}
