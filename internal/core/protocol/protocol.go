// Package protocol keeps what the rules need to know of each protocol: its
// addressing, its settings and what it is able to do. The rules of a family
// stand in its folder of package family and are registered here; the bytes are
// the business of package wire, the connections that of field.
package protocol

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
)

// Def describes one protocol.
type Def struct {
	Name     string `json:"name"`     // as in files and URLs
	Title    string `json:"title"`    // as in words
	Asker    string `json:"asker"`    // the protocol's own word for the asking end
	Answerer string `json:"answerer"` // and for the answering end
	Medium   string `json:"medium"`   // medium of the lines it runs over
	// Usual is set for what is meant on such a line where nobody says another.
	Usual    bool      `json:"usual"`
	Settings []Setting `json:"settings"`
	// Station is the key of the setting that tells apart those who answer on one
	// line or behind one address; empty where there is but one.
	Station string `json:"station,omitempty"`
	// Datagrams is set where it goes in datagrams: there are no connections.
	Datagrams bool `json:"datagrams,omitempty"`
	// DatagramPort is the port to which packets go beside the connection; 0 for none.
	DatagramPort int `json:"datagramPort,omitempty"`
	// Calling is the question that all devices of a network answer, in words, filled
	// in by Register; empty where the protocol has none.
	Calling string `json:"calling,omitempty"`
	// Ways is what the ways in are called that an answering end offers, AskingKeys and
	// AnsweringKeys the settings of certificates; filled in by Register.
	Ways          string      `json:"ways,omitempty"`
	AskingKeys    *SecureKeys `json:"askingKeys,omitempty"`
	AnsweringKeys *SecureKeys `json:"answeringKeys,omitempty"`
	// Looked is set where a device can be asked for names that may not be there, filled in by
	// Register.
	Looked bool `json:"looked,omitempty"`
	// HandsOut is what files are called that say which places a device has, where they are written
	// too; filled in by Register.
	HandsOut string `json:"handsOut,omitempty"`
	// HandsBeside is what the file is called that goes with one of these, empty for none.
	HandsBeside string `json:"handsBeside,omitempty"`
	// Makes is what the places of an answering end are called that are made of the values of others; filled in by
	// Register, empty where they are not.
	Makes string `json:"makes,omitempty"`
	// Leveled is set where values may be commanded at several levels; filled in by Register.
	Leveled bool `json:"leveled,omitempty"`
	// Carries is set where the protocol carries a text to whoever listens, filled in by
	// Register.
	Carries bool `json:"carries,omitempty"`
	// MapOnly is set where maps are written but no link speaks the protocol.
	MapOnly bool `json:"mapOnly,omitempty"`
	// Example is an address as it is typed.
	Example string `json:"example"`
	// Areas are those of a Scheme of the block shape, filled in by Register.
	Areas []block.Area `json:"areas"`
	// Ranged is set where runs of units are asked for, so that a device may bear less of them
	// than the protocol does.
	Ranged bool `json:"ranged,omitempty"`
	// Turns says what has to be shared between links, one request at a time.
	Turns Turns `json:"turns"`

	// Scheme is the addressing of the maps that the protocol reads.
	Scheme address.Scheme `json:"-"`
	// Vocabulary is how lists speak of the family's things; nil for nothing of its
	// own. Protocols of one family share it.
	Vocabulary *Vocabulary `json:"-"`
	// Rules are the family's own. What the protocol is able to do is found by
	// asking them for an interface of this package.
	Rules any `json:"-"`
}

// Vocabulary is the words of a family in lists, all in small letters without
// blanks, marks and accents.
type Vocabulary struct {
	// Headings are words that head columns, by the columns of a table: "address".
	Headings map[string][]string
	// Types are names of types, as the name of the type that they mean.
	Types map[string]string
	// Fillers are words that a heading may have more than it needs.
	Fillers []string
}

// Vocabularies lists those of all families, each once.
func Vocabularies() (list []*Vocabulary) {
	for _, d := range All() {
		if d.Vocabulary != nil && !slices.Contains(list, d.Vocabulary) {
			list = append(list, d.Vocabulary)
		}
	}
	return list
}

// Turns says among whom requests take turns.
type Turns string

// The resources that serve one request at a time.
const (
	TurnsOfLink    Turns = "link"    // each link has a connection of its own
	TurnsOfAddress Turns = "address" // all links to one address share a connection
	TurnsOfLine    Turns = "line"    // the whole line
)

var defs = map[string]*Def{}

// Register adds a protocol. Registering a name twice is a programming error.
func Register(d *Def) {
	if _, dup := defs[d.Name]; dup {
		panic("protocol registered twice: " + d.Name)
	}
	for i := range d.Settings {
		d.Settings[i].complete()
	}
	d.Areas = block.AreasOf(d.Scheme)
	block.Keep(d.Scheme)
	if calls, ok := d.Rules.(Calls); ok {
		d.Calling = calls.Calling()
	}
	if offers, ok := d.Rules.(Offers); ok {
		d.Ways = offers.Offered()
	}
	_, d.Looked = d.Before(nil)
	if files, ok := d.Describes(); ok {
		if _, writes := d.DescribesOut(); writes {
			d.HandsOut = files.Description()
		}
		if with, ok := d.Rules.(DescribesBeside); ok {
			d.HandsBeside = with.Beside()
		}
	}
	if keys, ok := d.SecureKeys(Asking); ok {
		answering, _ := d.SecureKeys(Answering)
		d.AskingKeys, d.AnsweringKeys = &keys, &answering
	}
	if makes, ok := d.Making(); ok {
		d.Makes = makes.Made()
	}
	_, d.Leveled = d.Rules.(Levels)
	_, d.Carries = d.Messages()
	_, d.Ranged = d.Ranges()
	defs[d.Name] = d
}

// Calls is the ability of a protocol that has a question which all devices of a
// network answer.
type Calls interface {
	// Calling is the question in words, as a button has it: "Ask all who they are".
	Calling() string
}

// Named returns a protocol by its name.
func Named(name string) (*Def, bool) {
	d, ok := defs[name]
	return d, ok
}

// Short returns a protocol by its name or the end of it, such as "tcp": of
// several the usual one, or the one with the shortest name.
func Short(name string) (found *Def, ok bool) {
	if d, ok := defs[name]; ok {
		return d, true
	}
	for _, d := range All() {
		if d.MapOnly || !strings.HasSuffix(d.Name, "-"+name) {
			continue
		}
		if found == nil || d.Usual && !found.Usual || d.Usual == found.Usual && len(d.Name) < len(found.Name) {
			found = d
		}
	}
	return found, found != nil
}

// All lists the protocols by name.
func All() []*Def {
	all := make([]*Def, 0, len(defs))
	for _, d := range defs {
		all = append(all, d)
	}
	slices.SortFunc(all, func(a, b *Def) int { return cmp.Compare(a.Name, b.Name) })
	return all
}

// UsualOn returns what is meant on lines of a medium where nobody says another
// protocol, or the first by name; nil where none runs over it.
func UsualOn(medium string) (usual *Def) {
	for _, d := range All() {
		if d.Medium == medium && !d.MapOnly && (usual == nil || d.Usual && !usual.Usual) {
			usual = d
		}
	}
	return usual
}

// MapOr returns the protocol that a map is written for: the one named, or the
// usual one where none is.
func MapOr(name string) string {
	if name == "" {
		return UsualOn("ethernet").Name
	}
	return name
}

// SchemeOf returns the addressing that a map is written in. A map names a
// protocol for it; protocols of one family share their scheme.
func SchemeOf(name string) (address.Scheme, error) {
	if d, ok := defs[name]; ok {
		return d.Scheme, nil
	}
	return nil, fmt.Errorf("protocol %s is not one that this version speaks", strconv.Quote(name))
}
