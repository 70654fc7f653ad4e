package protocol

// Asks is the ability of a protocol whose devices are asked for places by their
// names, several in one message. Where it has Reports too, values are reported,
// and asked for only to see what stands in a place now.
type Asks interface {
	// AskRoom is what one message may hold, with such settings of the asking end.
	AskRoom(settings Settings) AskRoom
	// AskBytes is what a place takes of the octets of a request and of its answer.
	AskBytes(w Wanted) (out, in int)
	// Asking names a request for some places in words, Function is the protocol's
	// own name for it.
	Asking(wanted []Wanted) string
	AskFunction() string
}

// AskRoom is what one message may hold.
type AskRoom struct {
	// Items is how many places, 0 for any number.
	Items int
	// Out and In bound the octets of a request and of its answer, 0 for no bound,
	// of which OutHead and InHead are taken whatever is asked, with all framing down
	// to the medium.
	Out, In, OutHead, InHead int
}

// Asks returns the ability of d to ask for places by their names.
func (d *Def) Asks() (Asks, bool) {
	if d == nil {
		return nil, false
	}
	a, ok := d.Rules.(Asks)
	return a, ok
}
