// Package field is the live side: it connects to devices, walks the stops of
// a link, runs the timetable and the crossings, and keeps what was seen. The
// protocols themselves are drivers in folders of their own.
package field

import (
	"context"
	"fmt"
	"sync"
	"syscall"
	"time"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/core/serial"
	"ferry/internal/core/value"
)

// Target is where a connection goes.
type Target struct {
	// Second is the other address of a pair, of which one is used at a time.
	Second string
	// Dial is host and port as the network knows them, or the path of a serial
	// port: on the bench those of the stand-in.
	Dial string
	// Control, if set, sees each address as it is dialled, names resolved, and
	// may refuse it.
	Control func(network, address string, c syscall.RawConn) error
	// Plant is set where what is sent takes effect in the plant.
	Plant bool
	// Trial is set where a link is only tried, by a person who looks how far it goes: nothing is taken
	// from the device that another may be waiting for, and nothing is changed in it.
	Trial bool
	// Format is what a serial port is opened with.
	Format serial.Format
	// Settings of the asking end, by the keys of the protocol.
	Settings protocol.Settings
	// Manner is in which odd ways the device is known to answer.
	Manner exchange.Manner
	// Authority is who is to be trusted besides those that settings name, in PEM.
	Authority []byte
	// Remains is what a driver keeps of a link from one connection to the next, for as
	// long as the link is asked; nil for nothing.
	Remains *sync.Map
	// Kept returns a secret or a file by its name; nil where none are kept.
	Kept func(kind protocol.Kind, name string) ([]byte, error)
}

// Secret returns what the secret, or the file, holds that a setting names; none
// where it names none. It must not appear in a Reply: the octets of a request
// are kept and shown.
func (t *Target) Secret(def *protocol.Def, key string) ([]byte, error) {
	setting, _ := def.Setting(key)
	name := def.Value(t.Settings, key).Text()
	if name == "" {
		return nil, nil
	}
	if t.Kept == nil {
		return nil, fmt.Errorf("the %s %q is not kept on this machine", setting.Kind, name)
	}
	return t.Kept(setting.Kind, name)
}

// Looker is a Conn whose device is asked for places by names that may not be there: that of
// every protocol with protocol.Looks.
type Looker interface {
	// Look asks for some places, no more than fit into one message.
	Look(list []address.Address) ([]protocol.Looked, Reply)
}

// Browser is a Conn whose device has its places in folders, which can be looked into one by one.
type Browser interface {
	// Browse looks into a folder, the zero address for the outermost, from a place in it on: at
	// most so many entries.
	Browse(folder address.Address, from, most int) (Folder, Reply)
}

// Folder is a part of what lies in a folder.
type Folder struct {
	Entries []FolderEntry
	More    bool // there are others behind
}

// FolderEntry is something that lies in a folder.
type FolderEntry struct {
	protocol.Held
	Holds  bool        // it has a value
	Opens  bool        // something lies in it
	Value  value.Value // none where it has none now
	Reason string      // why it is not good
}

// Offerer is a Driver of a protocol with protocol.Offers.
type Offerer interface {
	// Offers asks in which ways an answering end lets somebody in.
	Offers(ctx context.Context, t Target) (Offered, Reply)
}

// Offered is what an answering end offers.
type Offered struct {
	Offers []Offer
	// Ahead is by how much its clock is ahead of that of this machine, where Clock is set.
	Ahead time.Duration
	Clock bool
}

// Offer is one way in.
type Offer struct {
	Title string
	At    string // as it names itself
	// Settings are those of the asking end for it. Needs is what else it takes, Users as whom one
	// may come, Notes what is odd about it, and Cannot why Ferry cannot use it.
	Settings protocol.Settings
	Needs    []string
	Users    []string
	Notes    []string
	Cannot   string
	// Certificate is what it shows, in DER; nil for none.
	Certificate []byte
}

// Reply is what came of one request.
type Reply struct {
	Outcome exchange.Outcome
	Cause   exchange.Cause
	Looks   string // the character format that the octets look like, if any
	Code    int    // error code of the protocol, if Declined
	// Stop is the stop of the route at which connecting failed, where the octets
	// tell it; empty where the outcome alone does.
	Stop     route.Stop
	Sentence string // what happened, in words
	// SentAt is when the request went out, where it had to wait for a silence
	// before; zero for at once.
	SentAt time.Time
	// ThinkMs is the time from the end of the request on the wire to the
	// beginning of its answer, where the connection can tell.
	ThinkMs float64
	// LateMs is set where an answer to an earlier request came, so long after
	// it had been asked: it is too late, and belongs to nothing any more.
	LateMs float64
	// Doubt says why the data may be the answer to another question; empty for
	// none.
	Doubt string
	// Manner is in which odd ways the device answered.
	Manner exchange.Manner
	// HungUpAt is when the far end had ended the connection before the question, where that
	// was seen.
	HungUpAt time.Time
	// Optional is set where the question decides nothing: devices may not know it.
	Optional bool
	// Left is set once octets of the request may have left this machine.
	Left bool
	// Data holds the units read, one range after the other, each unit in whole
	// octets: a bit of its own takes one (0 or 1). It is valid until the next
	// request.
	Data []byte
	// Refused holds for each range the error code by which it was refused while
	// others were answered, 0 for none; nil if none was. Its data is zeros.
	Refused []int
	// Request and Answer are the octets on the wire, valid as Data is; Frames takes
	// their place where more went than one each way.
	Request, Answer []byte
	Frames          []exchange.Frame
}

// OK reports whether the reply is the answer that was hoped for.
func (r *Reply) OK() bool { return r.Outcome == exchange.Answered }

// Conn is an open connection to one device, or to all that share a line. It
// has one owner at a time. What more it can do is found by asking it for one
// of the interfaces that follow.
type Conn interface {
	// Toward turns the connection to the device that the settings name; it
	// stays there until it is turned again.
	Toward(settings protocol.Settings)
	// Break ends the request under way as if no answer had come; without one
	// it does nothing. It is the one method that others than the owner may call.
	Break()
	// Usable reports whether the connection can take another request.
	Usable() bool
	Close() error
}

// Ranged is a Conn whose device is asked for runs of units: that of every
// protocol with protocol.Ranges.
type Ranged interface {
	// Read asks for runs of units, in one request.
	Read(ranges []block.Range) Reply
	// Write sends whole units from an address on. data is as in Reply.Data. The
	// pass is asked for just before the octets leave; where it is refused, none
	// do, and the reply says NotAllowed.
	Write(at address.Address, data []byte, pass Pass) Reply
}

// Greeter is a Conn that can ask the least that any device answers, if only by
// declining.
type Greeter interface{ Greet() Reply }

// Identifier is a Conn that can ask the device who it is.
type Identifier interface {
	// Identify asks by every way that the protocol has. text is empty if the
	// device does not tell, which is no sign of anything: many do not know the
	// question. The reply is the last one.
	Identify() (text string, by string, reply Reply)
}

// Surveyor is a Conn that can ask the device what its answering end is set to.
type Surveyor interface {
	// Survey returns what the device tells; deep is to look for what it has beside what the
	// plan names, which takes many questions. The reply is the last one.
	Survey(deep bool) (Told, Reply)
}

// Told is what a device tells of itself.
type Told struct {
	// Settings are those of its answering end, by their keys.
	Settings protocol.Settings
	// Configuration are the octets of the configuration that it holds; nil where it does
	// not tell.
	Configuration []byte
	// Offers are what else it has, each with the settings by which it would be used.
	Offers []protocol.EndFix
}

// Reporter is a Conn whose device sends values without being asked for each:
// that of every protocol with protocol.Reports.
type Reporter interface {
	// Follow says which points are wanted, in the place of those before. Those
	// that the device does not send are refused, each for itself; the reply is
	// that to the whole.
	Follow(wanted []protocol.Wanted) (reply Reply, refused []Refusal)
	// Reports hands over what comes, one after the other. It is closed when the
	// connection has ended, and Ended then says how.
	Reports() <-chan Report
	Ended() Reply
}

// Reviser is a Reporter whose device says at the end of Follow how it will report: another
// pace than it was asked for, perhaps.
type Reviser interface {
	// Revised returns the settings of the link as the device keeps to them, and what is another
	// than it was asked for, to stand behind the question in the record; empty for nothing. Of
	// points it says by their ids how they are told, where that is another.
	Revised() (settings protocol.Settings, said string, points map[string]string)
}

// Numberer is a Reporter whose device numbers its places, otherwise perhaps after each start.
type Numberer interface {
	// Numbering is how it numbers them now, in its own words.
	Numbering() string
}

// Refusal is a point that is not reported.
type Refusal struct {
	ID       string
	Code     int // error code of the protocol, 0 for none
	Sentence string
}

// Report is what came in one message that nobody asked for; its octets are the
// receiver's to keep. One without samples is a sign of life.
type Report struct {
	At        time.Time // of arrival
	Operation string    // what it is, in words
	Octets    []byte
	Samples   []Sampled
	// Frames take the place of Octets in what is recorded where more than one message
	// went, from At on.
	Frames []exchange.Frame
	// Own is set for what this end itself knows, or what is recorded together with
	// others later: it is taken in, and not recorded.
	Own bool
	// Aside is set for what is only recorded: it is no sign of life, and its samples say
	// what the octets hold and are not taken in.
	Aside bool
	// Wrong says why the octets are no message; empty where they are one.
	Wrong string
	// Of is which station it is of, plus one, where several share a connection; 0 for the only one.
	Of int
	// Failed is set where a question that the connection asked by itself had no good answer: the
	// frames are those of it, and it is no sign of life.
	Failed *Reply
}

// Sampled is the value of a point in a report.
type Sampled struct {
	ID    string
	Value value.Value // as the device has it, before any scale
	// Quality is Good where it is left empty; Reason says why it is not.
	Quality value.Quality
	Reason  string
	// Code is the error code by which the device refuses it alone, 0 for none, and Cause
	// what else is wrong with it, where that has a name.
	Code  int
	Cause exchange.Cause
	Time  time.Time // the source's own, zero for none
	// Told is when whoever tells of it had it of the source by its own clock, where that is
	// another end; zero for not known.
	Told time.Time
	// From and To are the octets that it came from, To exclusive. Words are those of its own among
	// them, where others stand between; nil for all.
	From, To int
	Words    []byte
}

// Asker is a Conn whose device is asked for places by their names: that of every
// protocol with protocol.Asks.
type Asker interface {
	// AskItems asks for places in one request. What comes of each is a sample in its
	// octets of the answer, of bad quality with its reason where the device refuses
	// it alone.
	AskItems(wanted []protocol.Wanted) (Reply, []Sampled)
}

// Commandable is a Conn over which others may ask for a value of a point that this end
// has written.
type Commandable interface {
	// OnCommand says for which points that is taken: something carries them on. For all
	// others nothing comes of it.
	OnCommand(takes func(point string) bool)
}

// NoteWriter is an ItemWriter whose places can hold what is carried beside a value.
type NoteWriter interface {
	WriteNoted(to protocol.Wanted, v value.Value, note *protocol.Note, pass Pass) Reply
}

// ItemWriter is a Conn that writes values by the names of their places.
type ItemWriter interface {
	// WriteItem sends one value. The pass is as for Ranged.
	WriteItem(to protocol.Wanted, v value.Value, pass Pass) Reply
}

// Lister is a Conn whose device tells which places it has: that of every protocol
// with protocol.Lists.
type Lister interface {
	// List tells of as many places as one message holds, from behind a mark on:
	// the empty one is the beginning. next is the mark for those that follow,
	// empty at the end.
	List(after string) (held []protocol.Held, next string, reply Reply)
}

// Ask reads ranges over a connection that is made for it.
func Ask(conn Conn, ranges []block.Range) Reply {
	if c, ok := conn.(Ranged); ok {
		return c.Read(ranges)
	}
	return Reply{Outcome: exchange.NotAllowed, Sentence: "its protocol knows no such question"}
}

// askItems asks for places by their names over a connection that is made for it.
func askItems(conn Conn, wanted []protocol.Wanted) (Reply, []Sampled) {
	if c, ok := conn.(Asker); ok {
		return c.AskItems(wanted)
	}
	return Reply{Outcome: exchange.NotAllowed, Sentence: "its protocol knows no such question"}, nil
}

// greet asks for any answer at all, where the protocol has a question for it.
func greet(conn Conn) Reply {
	if c, ok := conn.(Greeter); ok {
		return c.Greet()
	}
	return Reply{Outcome: exchange.Answered}
}

// identify asks a device who it is; text is empty where it does not tell.
func identify(conn Conn) (text, by string, reply Reply) {
	if c, ok := conn.(Identifier); ok {
		return c.Identify()
	}
	return "", "", Reply{Outcome: exchange.Answered}
}

// Pass lets the octets of one write go. What it holds still (mode, lock and
// site) stays so until left is called, which must be once they have gone.
type Pass func() (left func(), err error)

// Overlapping is a Conn that lets its owner work while an answer is on its way.
type Overlapping interface {
	// OnSent has fn called whenever a request has left; a reply is then valid until
	// the next request has left and fn has returned.
	OnSent(fn func())
}

// Pipelined is a Conn that can have several requests under way.
type Pipelined interface {
	// ReadMany sends all reads and tells of each answer as it comes, in
	// whatever order. A reply is valid until the next, as with Read.
	ReadMany(reads [][]block.Range, came func(i int, reply Reply))
}

// Listener is a Conn that can hear what others say.
type Listener interface {
	// Listen takes in what comes for as long as it is told, and asks nothing.
	Listen(ctx context.Context, d time.Duration) Heard
}

// Sizer is a Conn that can find out how large an area of the device is.
type Sizer interface {
	// Size returns the units of an area; ok is false where that cannot be told,
	// or where the area has no size of its own.
	Size(area string) (units int, ok bool)
}

// Explainer is a Conn that can find out more about why a range is refused.
type Explainer interface {
	// Explain asks the device further; the zero Explanation is that nothing more
	// came of it.
	Explain(r block.Range, code int) Explanation
}

// Explanation is why a range is refused.
type Explanation struct {
	Saw    string // a sentence, of what was seen
	Remedy string
	Access []string // kinds of access line that explain it
}

// Heard is what came over a line while nobody here asked.
type Heard struct {
	Octets int `json:"octets"`
	// Frames passed their check; Stations are those that were asked or answered.
	Frames   int   `json:"frames"`
	Stations []int `json:"stations"`
	// Asked counts frames that are requests: somebody else asks.
	Asked    int     `json:"asked"`
	Ms       float64 `json:"ms"`
	Sentence string  `json:"sentence"`
}

// Driver speaks one protocol.
type Driver interface {
	// Dial connects. On failure the reply says how it failed; a conn is
	// returned only if it is OK. Ending ctx ends the connection.
	Dial(ctx context.Context, t Target) (Conn, Reply)
	// Dissect labels the octets of the frames of an exchange: a list for each.
	Dissect(frames []exchange.Frame, points []exchange.Labelled) [][]exchange.Field
}

var drivers = map[string]Driver{}

// Register adds the driver of a protocol. Doing so twice is a programming
// error.
func Register(name string, d Driver) {
	if _, dup := drivers[name]; dup {
		panic("driver registered twice: " + name)
	}
	drivers[name] = d
}

// DriverOf returns the driver and the definition of a protocol.
func DriverOf(name string) (Driver, *protocol.Def, error) {
	d, ok := drivers[name]
	def, known := protocol.Named(name)
	if !ok || !known {
		return nil, nil, fmt.Errorf("protocol %q is not one that this version speaks", name)
	}
	return d, def, nil
}
