package exchange

import "slices"

// Manner is a set of ways in which devices that are well answer otherwise than
// most. None of them is a fault, and none makes a value less sure.
type Manner uint8

// The manners.
const (
	OddStation    Manner = 1 << iota // answers under another number over a connection of its own
	NoTransaction                    // answers under transaction 0
	HangsUp                          // ends the connection after each answer
	Dozes                            // ends the connection when it has been quiet for a while
	Pieces                           // sends an answer in pieces
	SlowFirst                        // takes long for the first answer over a connection
	Singly                           // takes one question in a message
	Small                            // agrees to smaller messages than most
)

// Told is what there is to say of a manner.
type Told struct {
	Is    Manner `json:"-"`
	Code  string `json:"code"`  // in the limits of a device
	Does  string `json:"does"`  // follows the name of a device
	Copes string `json:"copes"` // what Ferry does about it
}

// Finding is the code of the finding that it is seen as.
func (t *Told) Finding() string {
	if t.Is == Dozes {
		return "idle-close"
	}
	return t.Code
}

// Manners is what there is to say of each manner.
var Manners = []Told{
	{OddStation, "answers-as", "answers under another number than it is asked by",
		"The transaction tells whose answer it is."},
	{NoTransaction, "no-transaction", "answers without the transaction it is asked with",
		"One question is asked at a time, and where one stays unanswered the connection is opened anew, so that no " +
			"answer is taken for another's."},
	{HangsUp, "hangs-up", "ends the connection after each answer",
		"It is opened anew for each question, which takes time: have the device keep it, or ask less often."},
	{Dozes, "dozes", "ends the connection when nothing is asked for a while",
		"It is opened anew for the next question."},
	{Pieces, "pieces", "sends its answers in pieces", "They are put together."},
	{SlowFirst, "slow-first", "takes longer than the time limit for its first answer over a connection",
		"The first question is given more time."},
	{Singly, "one-question", "takes one question in a message", "It is asked one by one."},
	{Small, "small-messages", "agrees to smaller messages than most", "More of them are needed for the same."},
}

// MannersOf returns the manners of some codes; ok is false if one is not known.
func MannersOf(codes []string) (set Manner, ok bool) {
	for _, code := range codes {
		i := slices.IndexFunc(Manners, func(m Told) bool { return m.Code == code })
		if i < 0 {
			return set, false
		}
		set |= Manners[i].Is
	}
	return set, true
}
