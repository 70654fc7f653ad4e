package address

import "ferry/internal/core/value"

// Kinds is the ability of a Scheme whose places are numbered within kinds, each of which holds values
// of one sort.
type Kinds interface {
	// KindNamed is the kind that a word names, as the hint of Parse.
	KindNamed(word string) (hint string, ok bool)
	// Holds is the type of what stands at an address, where nobody says another.
	Holds(Address) value.Type
	// Behind is the address that is so many further on in the same kind; ok is false beyond its end.
	Behind(a Address, n int) (Address, bool)
}

// KindNamed is the kind of a scheme that a word names.
func KindNamed(s Scheme, word string) (hint string, ok bool) {
	if k, can := s.(Kinds); can {
		return k.KindNamed(word)
	}
	return "", false
}

// Holds is the type of what stands at an address; empty where its scheme does not say.
func Holds(s Scheme, a Address) value.Type {
	if k, can := s.(Kinds); can {
		return k.Holds(a)
	}
	return ""
}
