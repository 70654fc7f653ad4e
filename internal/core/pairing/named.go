package pairing

import (
	"cmp"
	"fmt"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/value"
)

// SpellRule makes addresses of names as another side writes them: the part before, what takes the
// place of its separator, and the part behind.
type SpellRule struct {
	Before string `json:"before,omitempty"`
	From   string `json:"from,omitempty"`
	To     string `json:"to,omitempty"`
	Behind string `json:"behind,omitempty"`
}

// Apply is a name as an address.
func (r *SpellRule) Apply(name string) string {
	if r.From != "" {
		name = strings.ReplaceAll(name, r.From, r.To)
	}
	return r.Before + name + r.Behind
}

// Named is a name of a column, as it was written.
type Named struct {
	Line    int
	Text    string
	Address address.Address
	Type    value.Type // that is to be there; empty for any
	// Says is what the list says of it besides; nil for nothing.
	Says *protocol.Held
	Why  string // why it is no address, or its type none; empty where both are
}

// MostNamed bounds the names of one column.
const MostNamed = 50_000

// nameHeadings begin columns of names.
var nameHeadings = []string{"name", "names", "node", "nodes", "nodeid", "node id", "identifier", "tag", "tags",
	"address"}

// ReadNames reads a column of names: one to a line, with a type behind a tab, if any. A name that
// is an address already is taken as it is. Where addresses are kinds and numbers, which are no names, a
// name may stand before or behind its address, or before kind and number apart: it is bound to that.
// aside says what was left out.
func ReadNames(text string, rule SpellRule, scheme address.Scheme) (list []Named, aside string) {
	line := 0
	for row := range strings.Lines(text) {
		line++
		name, kind, _ := strings.Cut(strings.TrimRight(row, "\r\n"), "\t")
		name = strings.TrimSpace(strings.Trim(strings.TrimSpace(name), `"`))
		if name == "" {
			continue
		}
		if len(list) >= MostNamed {
			return list, fmt.Sprintf("Only the first %d names are looked for.", MostNamed)
		}
		one := Named{Line: line, Text: name}
		at, err := scheme.Parse(name, "")
		if err != nil {
			at, err = scheme.Parse(rule.Apply(name), "")
		}
		if len(list) == 0 && line == 1 && isHeading(name) {
			aside = fmt.Sprintf("The first line, %q, is taken for the heading.", name)
			continue
		}
		if _, kinds := scheme.(address.Kinds); kinds && kind != "" {
			if bound, rest, ok := boundTo(scheme, name, kind, err == nil); ok {
				one.Text, at, kind, err = bound.Text, cmp.Or(bound.Address, at), rest, nil
			}
		}
		if one.Address = at; err != nil {
			one.Why = err.Error()
		}
		if kind, _, _ = strings.Cut(kind, "\t"); strings.TrimSpace(kind) != "" && err == nil {
			if one.Type, _, err = regmap.ParseType(strings.TrimSpace(kind)); err != nil {
				if text, _, lacked := regmap.ParseType(strings.TrimSpace(kind) + " 1"); lacked == nil {
					one.Type, err = text, nil // a text whose length nobody says
				}
			}
			if err != nil {
				one.Why = err.Error()
			}
		}
		list = append(list, one)
	}
	return list, aside
}

// boundTo finds the address of a name in the cells behind it, or the name behind an address; rest are the
// cells behind both.
func boundTo(scheme address.Scheme, first, behind string, isAddress bool) (bound Named, rest string, ok bool) {
	cells := strings.Split(behind, "\t")
	for i := range cells {
		cells[i] = strings.TrimSpace(strings.Trim(strings.TrimSpace(cells[i]), `"`))
	}
	if isAddress {
		if _, _, err := regmap.ParseType(cells[0]); err == nil || cells[0] == "" {
			return bound, "", false // it is a type
		}
		return Named{Text: cells[0]}, strings.Join(cells[1:], "\t"), true
	}
	for n := 1; n <= min(2, len(cells)); n++ {
		if at, err := scheme.Parse(strings.Join(cells[:n], " "), ""); err == nil {
			return Named{Text: first, Address: at}, strings.Join(cells[n:], "\t"), true
		}
	}
	return bound, "", false
}

func isHeading(text string) bool {
	for _, h := range nameHeadings {
		if strings.EqualFold(text, h) {
			return true
		}
	}
	return false
}

// NameProof is what became of a name of a column.
type NameProof struct {
	Line     int        `json:"line"`
	Text     string     `json:"text"`
	Verdict  Verdict    `json:"verdict"`
	Sentence string     `json:"sentence"`
	Is       string     `json:"is"` // how it is called there, where it is
	Type     value.Type `json:"type"`
	Shown    string     `json:"shown"` // its value now
	Writable bool       `json:"writable"`

	Address address.Address `json:"-"`
}

// Lacks reports whether any name is not there, so that it pays to ask what is.
func Lacks(looked []protocol.Looked) bool {
	for i := range looked {
		if looked[i].Presence == protocol.Missing {
			return true
		}
	}
	return false
}

// ProveNames proves names of a column against what the far side says of each, and against what it
// lists of itself, nil where it lists nothing.
func ProveNames(scheme address.Scheme, names []Named, looked []protocol.Looked, held []protocol.Held) []NameProof {
	folded, called, known := map[string]string{}, map[string]string{}, map[address.Address]*protocol.Held{}
	for i := range held {
		h := &held[i]
		short := scheme.Short(h.Address)
		known[h.Address] = h
		folded[strings.ToLower(short)], called[strings.ToLower(h.Name)] = short, short
	}
	seen := map[string]int{}
	proofs := make([]NameProof, len(names))
	for i := range names {
		n := &names[i]
		p := NameProof{Line: n.Line, Text: n.Text}
		if n.Why != "" {
			p.Verdict, p.Sentence = Unreadable, n.Why
			proofs[i] = p
			continue
		}
		is := &looked[i]
		p.Address, p.Is, p.Type, p.Writable = is.Address, scheme.Short(is.Address), is.Type, is.Writable
		if !is.Value.IsNone() {
			p.Shown = is.Value.String()
		}
		switch short := scheme.Short(n.Address); is.Presence {
		case protocol.Here:
			p.Verdict, p.Sentence = There, is.Reason
			if n.Type != "" && is.Type != "" && !alikeTypes(n.Type, is.Type) {
				p.Verdict, p.Sentence = Other, fmt.Sprintf("It is there as %s, and the list says %s.", is.Type, n.Type)
			} else if why := unlike(n.Says, known[is.Address]); why != "" {
				p.Verdict, p.Sentence = Unlike, why
			}
		case protocol.Barred:
			p.Verdict, p.Sentence = NoAccess, is.Reason
		case protocol.Missing:
			p.Verdict, p.Sentence, p.Is = Absent, "The far side has no such name.", ""
			if near := folded[strings.ToLower(short)]; near != "" && near != short {
				p.Verdict, p.Is = Case, near
				p.Sentence = fmt.Sprintf("It is there as %s: names are told apart by their case.", near)
			} else if by := called[strings.ToLower(n.Text)]; by != "" {
				p.Is, p.Sentence = by, fmt.Sprintf("What is called so there has another identifier: %s.", by)
			}
		default:
			p.Verdict, p.Sentence = NoValue, is.Reason
		}
		if first, twice := seen[n.Address.String()]; twice && p.Verdict == There {
			p.Sentence = fmt.Sprintf("It stands in line %d, too.", first)
		} else if !twice {
			seen[n.Address.String()] = n.Line
		}
		proofs[i] = p
	}
	return proofs
}

// alikeTypes reports whether values of two types are the same: a list may call a whole number by
// what it stands for, and a moment by how it is kept.
func alikeTypes(a, b value.Type) bool {
	if a.IsWhole() && b.IsWhole() {
		low, high := a.Range(0)
		otherLow, otherHigh := b.Range(0)
		return low == otherLow && high == otherHigh
	}
	return a == b || a.IsTime() && b.IsTime()
}

// unlike says in what a place is otherwise than a list says; empty for in nothing, or where one of
// both says nothing.
func unlike(says, is *protocol.Held) string {
	if says == nil || is == nil {
		return ""
	}
	var parts []string
	add := func(what, there, listed string) {
		if listed != "none" && there != listed {
			parts = append(parts, fmt.Sprintf("%s %s, and the list says %s", what, there, listed))
		}
	}
	access := map[bool]string{false: "read", true: "read and written"}
	bound := func(h *protocol.Held) string {
		if h.Low == nil || h.High == nil {
			return "none"
		}
		return fmt.Sprintf("%g to %g", *h.Low, *h.High)
	}
	add("its unit is", cmp.Or(is.Unit, "none"), cmp.Or(says.Unit, "none"))
	add("its range is", bound(is), bound(says))
	add("it is", access[is.Writable], access[says.Writable])
	if len(parts) == 0 {
		return ""
	}
	text := strings.Join(parts, "; ")
	return strings.ToUpper(text[:1]) + text[1:] + "."
}

// BesideNames are the places that a device has and a column of names has not.
func BesideNames(scheme address.Scheme, names []Named, held []protocol.Held) (list []NameProof) {
	listed := make(map[address.Address]bool, len(names))
	for i := range names {
		listed[names[i].Address] = true
	}
	for i := range held {
		if h := &held[i]; !listed[h.Address] {
			list = append(list, NameProof{Text: h.Name, Verdict: Beside, Is: scheme.Short(h.Address), Type: h.Shape.Type,
				Writable: h.Writable, Address: h.Address})
		}
	}
	return list
}
