package protocol

// Faces is the ability of a protocol whose two ends are set in words of their own that
// have to come to the same: one counts elements, the other octets.
type Faces interface {
	// Face works out from the settings of both ends what each will say, whether that
	// agrees, and what the answering end will do where it does not.
	Face(e *Ends) Facing
	// Suits returns the settings of an asking end that agree with those of an answering one.
	Suits(answer Settings) Settings
}

// Ends are the two ends of a link as the plan has them.
type Ends struct {
	// Asking and Answering are the names of the devices.
	Asking, Answering string
	// Ask and Answer are their settings. Knows reports whether anybody has looked a
	// setting of the answering end up.
	Ask, Answer Settings
	Knows       func(key string) bool
	// Used is how many units of an area the points of the map reach to.
	Used map[string]int
	// PerSecond is how many packets a second the answering end bears, and Connections how
	// many connections, 0 for not known.
	PerSecond   float64
	Connections int
	// Others are how many other links of the protocol go to the answering end, and
	// OthersPerSecond is how many packets a second these exchange with it.
	Others          int
	OthersPerSecond float64
}

// Facing is both ends of a link side by side.
type Facing struct {
	Ways []FacingWay `json:"ways"`
	// Rows are what else has to fit.
	Rows []FacingRow `json:"rows"`
	// Alive is how both keep the connection alive.
	Alive FacingAlive `json:"alive"`
	// Typed is what has to be typed into the tool of the far end.
	Typed []TypedLine `json:"typed"`
	// Refused is what the answering end does, as the plan is: nothing where it agrees.
	Refused *FacingRefusal `json:"refused,omitempty"`
	// Fixes put right what stands in Refused, at one end or the other.
	Fixes []EndFix `json:"fixes"`
}

// The verdicts of what faces each other.
const (
	Agrees  = "good"
	Differs = "fault"
	Unsure  = "doubt"
)

// FacingWay is one direction.
type FacingWay struct {
	Area string `json:"area"` // of the map, whose points it carries
	Into bool   `json:"into"` // towards the asking end
	// Said says how it goes, in words: "every 50 ms · to one · instance 150".
	Said string `json:"said"`
	// Asking and Answering are what each end counts, and their sums.
	Asking         []FacingPart `json:"asking"`
	Answering      []FacingPart `json:"answering"`
	AskingOctets   int          `json:"askingOctets"`
	AnswerOctets   int          `json:"answerOctets"`
	AskingRemark   string       `json:"askingRemark"`
	AnswerRemark   string       `json:"answerRemark"`
	Verdict        string       `json:"verdict" jsonschema:"enum=good,enum=fault,enum=doubt"`
	Says           string       `json:"says"` // the verdict in words
	IntervalMs     float64      `json:"intervalMs"`
	Free           int          `json:"free"` // octets that are exchanged and that no point has
	BeyondExchange int          `json:"beyondExchange"`
}

// FacingPart is so many octets that one end counts.
type FacingPart struct {
	Kind   string `json:"kind" jsonschema:"enum=data,enum=sequence,enum=header"`
	Title  string `json:"title"`
	Octets int    `json:"octets"`
}

// FacingRow is one more thing that both ends have to agree on.
type FacingRow struct {
	Title   string `json:"title"`
	Said    string `json:"said"`
	Verdict string `json:"verdict" jsonschema:"enum=good,enum=fault,enum=doubt"`
	Says    string `json:"says"`
	// Area is that of the map whose points it is about, empty for none. Asks is set where
	// the device may tell, if it is asked.
	Area string `json:"area,omitempty"`
	Asks bool   `json:"asks,omitempty"`
}

// FacingAlive is how a connection is kept alive, each way in milliseconds.
type FacingAlive struct {
	Multiplier int     `json:"multiplier"`
	InMs       float64 `json:"inMs"` // between two packets towards the asking end
	OutMs      float64 `json:"outMs"`
	InDropsMs  float64 `json:"inDropsMs"` // silence after which it is dropped
	OutDropsMs float64 `json:"outDropsMs"`
	PerSecond  float64 `json:"perSecond"` // packets, both ways together
	Bears      float64 `json:"bears"`     // what the device bears, 0 for not known
	Verdict    string  `json:"verdict" jsonschema:"enum=good,enum=fault,enum=doubt"`
	Says       string  `json:"says"`
}

// TypedLine is a line of what has to be typed into the tool of the far end.
type TypedLine struct {
	Key   string `json:"key"`
	Title string `json:"title"`
	Value string `json:"value"`
}

// FacingRefusal is what the answering end does about two ends that do not agree.
type FacingRefusal struct {
	Title string `json:"title"` // in a clause
	Says  string `json:"says"`
	// Code is the error code by which it refuses, 0 where it takes it and something
	// else comes of it; Shown is the code as the device shows it.
	Code  int    `json:"code"`
	Shown string `json:"shown"`
}

// EndFix puts one thing right at one end.
type EndFix struct {
	Title  string `json:"title"`
	Detail string `json:"detail"`
	// Ask are settings of the asking end that change, Answer of the answering end.
	Ask    Settings `json:"ask,omitempty"`
	Answer Settings `json:"answer,omitempty"`
}

// Faces returns the ability of d to set both ends of a link side by side.
func (d *Def) Faces() (Faces, bool) {
	if d == nil {
		return nil, false
	}
	f, ok := d.Rules.(Faces)
	return f, ok
}

// Standing is the ability of a protocol whose connections have states of their own, which
// are places of the map like any other.
type Standing interface {
	// Standing lists these places, with a name and a shape for each. They are offered
	// as points.
	Standing() []Held
}

// StandingPoints lists the places in which d tells of its connections; none where it has
// no such places.
func (d *Def) StandingPoints() []Held {
	if d == nil {
		return nil
	}
	if s, ok := d.Rules.(Standing); ok {
		return s.Standing()
	}
	return nil
}

// Cyclic is the ability of a protocol that carries all of an area at once, again and again.
type Cyclic interface {
	// Image says how many octets of an area a connection carries, with such settings of
	// its asking end.
	Image(s Settings, area string) int
	// Headed reports whether 32 bits in front of the data say run or idle, of what comes
	// into the asking end or goes out of it.
	Headed(s Settings, into bool) bool
}

// Configures is the ability of a protocol whose connections are opened with a
// configuration, which is an area of the map.
type Configures interface {
	// Configured returns the area, and the octets that settings of the asking end have
	// sent: none where nothing or an empty one is.
	Configured(s Settings) (area string, octets []byte, err error)
	// Configure returns the settings that have octets sent.
	Configure(octets []byte) Settings
	// Wants is how many octets the answering end wants, -1 where that is not known.
	Wants(port Settings, knows func(key string) bool) int
}

// Configures returns the ability of d to open its connections with a configuration.
func (d *Def) Configures() (Configures, bool) {
	if d == nil {
		return nil, false
	}
	c, ok := d.Rules.(Configures)
	return c, ok
}

// Headed is that of Cyclic; known is false where d carries nothing in cycles.
func (d *Def) Headed(s Settings, into bool) (headed, known bool) {
	if d == nil {
		return false, false
	}
	c, is := d.Rules.(Cyclic)
	return is && c.Headed(s, into), is
}

// Image is how many octets of an area a connection of d carries; ok is false where it
// carries none as a whole.
func (d *Def) Image(s Settings, area string) (octets int, ok bool) {
	if d == nil {
		return 0, false
	}
	if c, is := d.Rules.(Cyclic); is {
		return c.Image(s, area), true
	}
	return 0, false
}
