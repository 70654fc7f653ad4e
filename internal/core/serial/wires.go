package serial

import "fmt"

// Standard is the electrical standard of a line.
type Standard string

// The standards, by the documents of the TIA.
const (
	TIA232     Standard = "tia-232"
	TIA422     Standard = "tia-422"
	TIA485Two  Standard = "tia-485-2w"
	TIA485Four Standard = "tia-485-4w"
)

// Title is the standard in the words of the trade.
func (s Standard) Title() string {
	switch s {
	case TIA232:
		return "RS-232"
	case TIA422:
		return "RS-422"
	case TIA485Four:
		return "RS-485 4-wire"
	}
	return "RS-485 2-wire"
}

// Standards lists all of them.
func Standards() []Standard { return []Standard{TIA485Two, TIA485Four, TIA422, TIA232} }

// Port is the electrical side of one port on a line.
type Port struct {
	Name string
	// UnitLoad is its share of the load that a driver bears, 1 for a classic
	// receiver (TIA-485-A clause 4.1).
	UnitLoad float64
	// Terminated and Biased are nil where nobody knows.
	Terminated, Biased *bool
	// Gender is dte, dce or empty where nobody knows.
	Gender string
}

// Wires is the electrical side of a line.
type Wires struct {
	Standard Standard
	Baud     int
	LengthM  float64 // 0 for not known
	Ports    []Port
}

// Fault is one thing that is wrong with the wires.
type Fault struct {
	Code string
	// Certain is false where it is merely unwise, or cannot be told.
	Certain  bool
	Sentence string
	Remedy   string
}

// MaxLengthM is the longest line for a baud rate: 15 m for TIA-232 up to
// 19 200 baud and in proportion less above (2 500 pF of cable), and 1200 m for
// TIA-422 and TIA-485 up to 100 kbit/s and in proportion less above (the
// curve of TIA-422-B annex A, which TIA-485 lines follow too).
func MaxLengthM(s Standard, baud int) float64 {
	if s == TIA232 {
		return 15 * min(1, 19200/float64(baud))
	}
	return 1200 * min(1, 100_000/float64(baud))
}

// Check reports what the wires do not bear.
func (w *Wires) Check() []Fault {
	var faults []Fault
	add := func(code string, certain bool, sentence, remedy string) {
		faults = append(faults, Fault{code, certain, sentence, remedy})
	}
	if most := MaxLengthM(w.Standard, w.Baud); w.LengthM > most {
		add("line-too-long", true, fmt.Sprintf("%.0f m at %d baud is more than %s bears: %.0f m.", w.LengthM, w.Baud,
			w.Standard.Title(), most), "Lower the baud rate, or put a repeater in between.")
	}
	if w.Standard == TIA232 {
		if len(w.Ports) > 2 {
			add("too-many-ports", true, fmt.Sprintf("RS-232 joins two ports, and this line has %d.", len(w.Ports)),
				"Use RS-485, or one line for each device.")
		}
		return faults
	}
	load := 0.0
	for _, p := range w.Ports {
		load += p.UnitLoad
	}
	most, what := 32.0, "unit loads"
	if w.Standard == TIA422 {
		most, what = 10, "receivers"
		load = float64(len(w.Ports) - 1)
	}
	if load > most {
		add("too-much-load", true, fmt.Sprintf("The ports weigh %g %s, and %s bears %g.", load, what,
			w.Standard.Title(), most), "Use ports of less load, or a repeater.")
	}
	count := func(of func(Port) *bool) (yes, unknown int) {
		for _, p := range w.Ports {
			if b := of(p); b == nil {
				unknown++
			} else if *b {
				yes++
			}
		}
		return yes, unknown
	}
	if len(w.Ports) < 2 {
		return faults
	}
	ends, unknown := count(func(p Port) *bool { return p.Terminated })
	switch {
	case ends > 2:
		add("terminated-too-often", true, fmt.Sprintf("%d ports are terminated: the drivers see %.0f Ω in "+
			"place of 60 Ω.", ends, 120/float64(ends)),
			"Take out every terminator but those at the two ends of the cable.")
	case ends < 2 && unknown == 0 && w.LengthM > terminatedFrom(w.Baud):
		add("not-terminated", false, fmt.Sprintf("%d of 2 ends are terminated, on %.0f m at %d baud: edges come "+
			"back as echoes.", ends, w.LengthM, w.Baud), "Put 120 Ω at both ends of the cable.")
	}
	if w.Standard == TIA485Two {
		biased, unknown := count(func(p Port) *bool { return p.Biased })
		switch {
		case biased > 1:
			add("biased-too-often", false,
				fmt.Sprintf("%d ports bias the pair: together they load it like %d more receivers each.", biased, 20),
				"Bias the pair in one place only.")
		case biased == 0 && unknown == 0:
			add("not-biased", false, "Nothing holds the pair at idle while nobody drives it: receivers may see "+
				"characters that nobody sent.", "Switch on the bias resistors in one place, best at the asking end.")
		}
	}
	return faults
}

// terminatedFrom is the length in metres from which a line has to be
// terminated: where the way there and back takes longer than a tenth of a bit,
// at 5 ns a metre.
func terminatedFrom(baud int) float64 { return 1e9 / float64(baud) / 10 / (2 * 5) }

// Cable says which cable joins two ports of the given genders: straight from a
// DTE to a DCE, crossed between two alike (TIA-232-F clause 3). It is empty
// where one of them is not known.
func Cable(a, b string) string {
	switch {
	case a == "" || b == "":
		return ""
	case a == b:
		return "crossed"
	}
	return "straight"
}
