// Package exchange holds a request with its answers, as seen on a line, in a
// shape that belongs to no protocol.
package exchange

import (
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/value"
)

// Outcome says how an exchange ended.
type Outcome string

// The outcomes. Only Answered and Reported bring values.
const (
	Answered   Outcome = "answered"
	Declined   Outcome = "declined"     // the device answered with an error code of its protocol
	NoAnswer   Outcome = "no answer"    // connected, but nothing came in time
	Unreached  Outcome = "unreached"    // the connection itself got no answer
	Refused    Outcome = "refused"      // nobody listens on the port
	Reset      Outcome = "reset"        // the connection was torn down by the far end
	Closed     Outcome = "closed"       // the far end ended the connection in order
	Garbled    Outcome = "garbled"      // bytes came that are no valid answer to the request
	NotAllowed Outcome = "not allowed"  // Ferry itself did not send it
	CalledOff  Outcome = "called off"   // Ferry itself no longer waited for the answer
	Sent       Outcome = "sent"         // to every station at once, which none answers
	Reported   Outcome = "reported"     // the device sent it without being asked
	NoSuchName Outcome = "no such name" // the host's name has no address
	PortAbsent Outcome = "port absent"  // this machine has no such port
	PortOwned  Outcome = "port owned"   // another program has the port open
	PortDenied Outcome = "port denied"  // this program may not open the port
)

// Cause is what an answer that is none, or one that is odd, looks like.
type Cause string

// The causes that can be told from the octets of one exchange.
const (
	OtherStation Cause = "other station"  // a right frame of another station
	TwoStations  Cause = "two stations"   // more than one answer at once
	Format       Cause = "format"         // what another baud rate or parity looks like
	Check        Cause = "check"          // a frame of the right length that fails its check
	Noise        Cause = "noise"          // a frame of the right length with wrong octets
	CutShort     Cause = "cut short"      // the rest of the frame did not come
	Echo         Cause = "echo"           // the own request came back
	InPieces     Cause = "in pieces"      // a right frame with a pause inside
	Late         Cause = "late"           // the answer came after the time limit
	Others       Cause = "others"         // somebody else asks on the line as well
	Quiet        Cause = "quiet"          // an end that reports gave no sign of life
	Redone       Cause = "asked again"    // the connection ended under the question, which was asked once more
	HungUp       Cause = "hung up"        // the far end ended the connection in place of an answer
	Insecure     Cause = "insecure"       // TLS did not come about
	Unfitting    Cause = "another type"   // a value came of another type than the map says
	Flooded      Cause = "told too often" // the device says the same again and again
	Unwanted     Cause = "unwanted"       // the device does not report what it was asked to
	Untold       Cause = "untold"         // it reports nothing of changes, which it had agreed to
)

// Exchange is one request with its answer, or a report, which has an answer
// alone. Its times are those of the side that asks.
type Exchange struct {
	Seq    uint64 `json:"seq"`
	Link   string `json:"link"`
	Device string `json:"device"`
	// RequestID is that of the timetable, empty for what is not in it.
	RequestID string    `json:"requestId,omitempty"`
	At        time.Time `json:"at"`
	// LatencyMs is the time from request to answer, or to giving up.
	LatencyMs float64 `json:"latencyMs"`
	// LateMs is how long after its planned time the request went out.
	LateMs    float64 `json:"lateMs"`
	Operation string  `json:"operation"`
	Outcome   Outcome `json:"outcome"`
	Cause     Cause   `json:"cause,omitempty"`
	ThinkMs   float64 `json:"thinkMs,omitempty"`
	// AnswerLateMs over 0 is how long an answer to this or an earlier request took
	// that came after its time limit. Doubt says why the data may answer another
	// question.
	AnswerLateMs float64 `json:"answerLateMs,omitempty"`
	Doubt        string  `json:"doubt,omitempty"`
	// Connecting is set for a connection, or the session over it, that was to come about.
	Connecting bool `json:"-"`
	// HungUpAt is when the far end had ended the connection before it, where that was seen.
	HungUpAt time.Time `json:"-"`
	// Optional is set where the question decides nothing.
	Optional bool `json:"-"`
	// Manner is in which odd ways the device answered.
	Manner Manner `json:"-"`
	// Code is the error code of the protocol if the outcome is Declined.
	Code     int    `json:"code,omitempty"`
	Sentence string `json:"sentence"`
	Points   int    `json:"points"`
	Write    bool   `json:"write,omitempty"`
	// Frames are what went over the link, in their order: a request with its
	// answers, or a report alone.
	Frames []Frame `json:"-"`
	// Data holds the units read, each in whole octets: a bit in one, 0 or 1.
	Data []byte `json:"-"`
	// Ranges say which runs of units it was about, if it was about such. The
	// data of one follows that of the other.
	Ranges []block.Range `json:"ranges,omitempty"`
	// Samples are the values of a report, in its octets.
	Samples []Sample `json:"samples,omitempty"`
	// Refused holds for each range the error code by which it was refused, 0 for
	// none; it is nil where none was refused for itself.
	Refused []int `json:"refused,omitempty"`
}

// Sample is one value in a report: its point, the value before any scale, the
// octets that it came from (To exclusive), and the device's own time, if it gave
// one.
type Sample struct {
	Point string      `json:"point"`
	Value value.Value `json:"value"`
	From  int         `json:"from"`
	To    int         `json:"to"`
	Time  time.Time   `json:"time,omitzero"`
}

// Field labels some bytes of a request or an answer with their meaning.
type Field struct {
	From  int    `json:"from"` // octets, To exclusive
	To    int    `json:"to"`
	Label string `json:"label"`
	// Role is frame, data, point, gap or broken; broken bytes are those that
	// make a frame invalid.
	Role    string `json:"role"`
	Meaning string `json:"meaning"`
	Point   string `json:"point,omitempty"` // id of the point
}
