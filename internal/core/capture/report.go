package capture

import "time"

// Report is what a message says of itself where things are told without being asked for
// each: which way it goes, and under which name.
type Report struct {
	Way ReportWay
	// Name is that under which it is told; of a subscription what is subscribed to.
	Name string
	// Others are further names that are subscribed to with it.
	Others []string
	// Payload is what is told, only there during the call. Broken says why it is none, where
	// the name says what it is to be.
	Payload []byte
	Broken  string
	// Kept is set for what was kept from before by whoever passes it on.
	Kept bool
	// Sent is when, by the clock of the sender; zero for none.
	Sent time.Time
	// Of is a sender that others know whether it is there, Life what the message says of
	// that.
	Of   string
	Life Life
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
// be told, what the answerer told was to be confirmed and was not, and the asker wants to be
// told no more.
const (
	Gives ReportWay = iota + 1
	Brings
	Wants
	Unconfirmed
	Leaves
)

// Life is what a message says of a sender.
type Life uint8

// What may be said: that its messages can be understood from now on, that it goes on
// telling, that it has gone, that it is asked to say again what its messages mean, and that
// somebody waits for it.
const (
	Born Life = iota + 1
	Tells
	Gone
	Called
	Awaited
)

// Remark is what an exchange shows besides how it ended.
type Remark struct {
	Kind RemarkKind
	// Name is what it is about, as the asker names it; Text what there is to see.
	Name, Text string
}

// RemarkKind is what a remark is about.
type RemarkKind uint8

// The kinds: that messages are missing which were numbered; that what was subscribed to is not
// told, with what else came; that the answerer grants less than it was asked for; that it calls
// its own values uncertain or bad; how it numbers what its names begin with, which it has to
// say anew after each start; that values were lost where it keeps them to be told; that it was started
// again; that its clock wants to be set; that it says of itself that something is wrong; that changes
// are fetched without what stood there before, or wait and are not fetched; that it speaks to another
// than who asks; that several ask who do not know of each other; that somebody, whom Text names, says that a
// number is his, which is to be one's alone; and that the same is said far too often.
const (
	Skipped RemarkKind = iota + 1
	Withheld
	Granted
	Uncertain
	Numbering
	Overrun
	Restarted
	Unset
	Troubled
	Baseless
	Unfetched
	Misaddressed
	Rivalled
	Claimed
	Flooded
)
