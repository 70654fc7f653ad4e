package capture

// Report is what a message says of itself where things are told without being asked for
// each: which way it goes, and under which name.
type Report struct {
	Way ReportWay
	// Name is that under which it is told; of a subscription what is subscribed to.
	Name string
	// Series names messages that are numbered one after the other, empty for none. Number
	// is that of this one, and after Modulus-1 comes 0. Begins is set where the numbers may
	// begin anew.
	Series          string
	Number, Modulus int
	Begins          bool
}

// ReportWay is which way a message goes.
type ReportWay uint8

// The ways: the asker tells the answerer, the answerer tells the asker, the asker wants to
// be told, and what the answerer told was to be confirmed and was not.
const (
	Gives ReportWay = iota + 1
	Brings
	Wants
	Unconfirmed
)
