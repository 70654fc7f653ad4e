package pairing

import (
	"cmp"
	"fmt"
	"slices"

	"ferry/internal/core/exchange"
	"ferry/internal/core/finding"
	"ferry/internal/core/site"
)

// Reach is how the far side of a list is reached.
type Reach struct {
	// Over is how: the name of the device for a link, and where Ferry listens for what
	// it serves. It is empty where nothing reaches it.
	Over string
	Runs bool
	Up   bool
	// Outcome and Why say why it is not up.
	Outcome exchange.Outcome
	Why     string
	// Served is set where Ferry itself is the far side's device, with so many clients.
	Served  bool
	Clients int
}

// NameState is what is known of one name while its list runs.
type NameState struct {
	Proof Proof
	// State is one of crossing.State, or waiting where it is not released, and Sentence
	// why it does not carry.
	State    string
	Sentence string
	Off      bool
}

// Stand is how a list stands as a whole, in one word.
type Stand string

// The ways to stand.
const (
	StandsOff     Stand = "off"           // switched off, or by the point that enables it
	StandsIdle    Stand = "idle"          // not run
	StandsEmpty   Stand = "empty"         // has no name
	NotConnected  Stand = "not connected" // the far side is not reached
	CarriesNone   Stand = "carries nothing"
	CarriesSome   Stand = "carries some"
	CarriesAll    Stand = "carries all"
	StandsWaiting Stand = "waiting" // it has only just begun, or is to be released
)

// ListStanding is how a list stands.
type ListStanding struct {
	List  string `json:"list"`
	Stand Stand  `json:"stand"`
	// Title is it in a few words, Sentence in one.
	Title    string `json:"title"`
	Sentence string `json:"sentence"`
	Names    int    `json:"names"`
	Carrying int    `json:"carrying"`
	// Proofs are what is known of each far name that is not simply there.
	Proofs []Proof `json:"proofs"`
}

// Severity is how bad it is; empty for not at all.
func (s *ListStanding) Severity() finding.Severity {
	switch s.Stand {
	case NotConnected, CarriesNone:
		return finding.Fault
	case CarriesSome:
		return finding.Doubt
	}
	return ""
}

// StandingOf says how a list stands.
func StandingOf(l *site.List, reach *Reach, names []NameState) ListStanding {
	s := ListStanding{List: l.ID, Names: len(names), Proofs: []Proof{}}
	whys := map[string]int{}
	waiting, off := 0, 0
	why := func(text string) { whys[text]++ }
	for i := range names {
		n := &names[i]
		if n.Proof.Verdict != There {
			s.Proofs = append(s.Proofs, n.Proof)
		}
		switch {
		case n.Off:
			off++
		case n.State == "carrying" && n.Proof.Verdict != There && n.Proof.Verdict != Unheard:
			why(n.Proof.Sentence)
		case n.State == "carrying" && (n.Proof.Verdict == There || reach.Served):
			s.Carrying++
		case n.State == "carrying":
			waiting++
		case n.State == "waiting" || n.State == "disabled" || n.State == "idle" || n.State == "":
			waiting++
			if n.Sentence != "" {
				why(n.Sentence)
			}
		default:
			why(n.Sentence)
		}
	}
	be := func(stand Stand, title, format string, args ...any) ListStanding {
		s.Stand, s.Title, s.Sentence = stand, title, fmt.Sprintf(format, args...)
		return s
	}
	most := frequent(whys)
	wanted := len(names) - off
	switch {
	case l.Off:
		return be(StandsOff, "Switched off", "It carries nothing until it is switched on.")
	case len(names) == 0:
		return be(StandsEmpty, "No name yet", "Add names from a table, by likeness, or one by one.")
	case reach.Over == "":
		return be(NotConnected, "Nothing reaches the far side", "Give it a link under Lines.")
	case !reach.Runs:
		return be(StandsIdle, "Not run", "It carries once %s runs.", reach.Over)
	case !reach.Up && reach.Why == "":
		return be(StandsWaiting, "Connecting", "%s is being connected.", reach.Over)
	case !reach.Up:
		return be(NotConnected, notReached(reach.Outcome), "%s", sentenceOf(reach.Why))
	case wanted == 0:
		return be(StandsOff, "Switched off", "Each of its names is switched off.")
	case s.Carrying == wanted:
		return be(CarriesAll, "Connected", "All %d names carry.%s", wanted, clients(reach))
	case s.Carrying > 0:
		return be(CarriesSome, "Connected", "%d of %d names carry. %s", s.Carrying, wanted, most)
	case waiting == wanted && len(whys) == 0:
		return be(StandsWaiting, "Connected", "It waits for the first values.")
	case waiting == wanted && len(whys) == 1:
		return be(StandsWaiting, "Connected, and waits", "%s", most)
	}
	return be(CarriesNone, "Connected, and carries nothing", "None of its %d names carries. %s", wanted, most)
}

func clients(reach *Reach) string {
	switch {
	case !reach.Served:
		return ""
	case reach.Clients == 0:
		return " No client is connected."
	case reach.Clients == 1:
		return " One client is connected."
	}
	return fmt.Sprintf(" %d clients are connected.", reach.Clients)
}

// notReached tells a service that is not started from a machine that is not there.
func notReached(o exchange.Outcome) string {
	switch o {
	case exchange.Refused:
		return "The machine is there, its service is not started"
	case exchange.NoSuchName:
		return "The name of the machine is not known"
	case exchange.Unreached:
		return "The machine is not reached"
	case exchange.NoAnswer:
		return "Nothing answers"
	case exchange.Declined, exchange.NotAllowed:
		return "Not let in"
	}
	return "Not connected"
}

// frequent is the sentence that holds for most names.
func frequent(whys map[string]int) string {
	if len(whys) == 0 {
		return ""
	}
	type counted struct {
		text string
		n    int
	}
	list := make([]counted, 0, len(whys))
	for text, n := range whys {
		list = append(list, counted{text, n})
	}
	slices.SortFunc(list, func(a, b counted) int {
		return cmp.Or(cmp.Compare(b.n, a.n), cmp.Compare(a.text, b.text))
	})
	if list[0].n == 1 {
		return list[0].text
	}
	return fmt.Sprintf("%d of them: %s", list[0].n, list[0].text)
}

// sentenceOf makes a sentence of a reason.
func sentenceOf(text string) string {
	if text == "" {
		return text
	}
	runes := []rune(text)
	if runes[0] >= 'a' && runes[0] <= 'z' {
		runes[0] += 'A' - 'a'
	}
	if last := runes[len(runes)-1]; last != '.' && last != '?' {
		runes = append(runes, '.')
	}
	return string(runes)
}
