package internal_test

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"ferry/internal/bench"
	"ferry/internal/core/address"
	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/core/value"
	"ferry/internal/field"
)

// The toy is a family as unlike the block shape as can be: its points are named
// by quoted paths, it wants a text and a secret, it has no ranges and answers no
// questions, and it sends values when they change, each with its own time and
// quality. What it needs stands in this file alone.
//
// Its wire is lines of JSON. The asking end begins:
//
//	{"client":"hall-laptop","phrase":"…"}      {"ok":true} or {"refused":N}
//	{"follow":["Hall 1/Oxygen"]}               {"taken":1,"unknown":[]}
//	{"set":"Hall 1/Setpoint","v":8.5}          {"done":"…"} or {"refused":N}
//
// and the device sends {"values":{"Hall 1/Oxygen":{"v":8.4,"q":"good","t":ms}}}
// and {"alive":true}.

const toyPhrase = "brackish water, 12 salinity"

type toyScheme struct{}

func (toyScheme) Parse(text, _ string) (address.Address, error) {
	path, begun := strings.CutPrefix(strings.TrimSpace(text), `"`)
	path, ended := strings.CutSuffix(path, `"`)
	if !begun || !ended || path == "" || strings.Contains(path, `"`) {
		return address.Address{}, fmt.Errorf(`address %s: write a path in quotes, such as "Hall 1/Oxygen"`, text)
	}
	return address.Named("path", path), nil
}

func (toyScheme) Short(a address.Address) string {
	_, path, _ := a.Name()
	return `"` + path + `"`
}

func (s toyScheme) Notations(a address.Address) []address.Notation {
	return []address.Notation{{Name: "path", Text: s.Short(a)}}
}

func (s toyScheme) Compare(a, b address.Address) int { return cmp.Compare(s.Short(a), s.Short(b)) }

func (toyScheme) Check(a address.Address, shape value.Shape) error {
	if space, _, ok := a.Name(); !ok || space != "path" {
		return fmt.Errorf("address %s is no path", a)
	}
	if shape.Type == value.TypeBits {
		return errors.New("a path holds no field of bits")
	}
	return nil
}

type toyRules struct{}

// Expected: a change a second is assumed of each point, 60 octets with its
// framing.
func (toyRules) Expected(_ protocol.Settings, wanted []protocol.Wanted) []protocol.Load {
	load := protocol.Load{Title: "values that change", Octets: 60 * len(wanted), PeriodMs: 1000, Event: true}
	for _, w := range wanted {
		load.Points = append(load.Points, w.ID)
	}
	return []protocol.Load{load, {Title: "sign of life", Octets: 80, PeriodMs: 300}}
}

func (toyRules) Lapse(s protocol.Settings) protocol.Lapse {
	return protocol.Lapse{AfterMs: toyDef.Int(s, "aliveMs") * 3, Quality: value.Doubtful}
}

func (toyRules) Writable(a address.Address) error {
	if _, path, _ := a.Name(); strings.HasPrefix(path, "State/") {
		return errors.New("states are not set")
	}
	return nil
}

func (toyRules) WriteItem(address.Address) string                         { return "set" }
func (toyRules) ItemBytes(a address.Address, _ value.Shape) (out, in int) { return 100, 80 }
func (toyRules) Decline(code int) protocol.Declined {
	return map[int]protocol.Declined{
		1: {Title: "phrase not right", Means: "It knows another phrase.", Causes: "Enter the phrase of its display anew.",
			Session: true, Access: []string{"remote"}},
		2: {Title: "no such path", Means: "It has no such path.", Causes: "Compare how the path is written in it."},
	}[code]
}

var toyDef = &protocol.Def{
	Name: "toy-tcp", Title: "Toy", Asker: "listener", Answerer: "sender", Medium: "ethernet", Example: `"Hall 1/Oxygen"`,
	Turns: protocol.TurnsOfLink, Scheme: toyScheme{}, Rules: toyRules{},
	Vocabulary: &protocol.Vocabulary{Headings: map[string][]string{"address": {"toypath"}}},
	Settings: []protocol.Setting{
		{Key: "port", Title: "Port", End: protocol.BothEnds, Default: protocol.OfInt(4711), Least: 1, Most: 65535,
			Stop: "address", Shows: "the connection is refused"},
		{Key: "client", Title: "Client name", Kind: protocol.Text, End: protocol.Asking, Least: 1,
			Default: protocol.OfText("ferry"), Pattern: "[a-z][a-z0-9-]*", Like: "hall-laptop", Stop: "session"},
		{Key: "phrase", Title: "Phrase", Kind: protocol.Secret, End: protocol.Asking, Stop: "session",
			Shows: "the session is refused"},
		{Key: "aliveMs", Title: "Sign of life every", Unit: "ms", End: protocol.BothEnds, Default: protocol.OfInt(300),
			Least: 50, Most: 60000, Stop: "pace", Shows: "values are doubted in between"},
	},
}

// toyMessage is any line of the toy's wire.
type toyMessage struct {
	Client  string              `json:"client,omitempty"`
	Phrase  string              `json:"phrase,omitempty"`
	OK      bool                `json:"ok,omitempty"`
	Refused int                 `json:"refused,omitempty"`
	Follow  []string            `json:"follow,omitempty"`
	Ask     []string            `json:"ask,omitempty"`
	Given   map[string]toyValue `json:"given,omitempty"`
	Taken   *int                `json:"taken,omitempty"`
	Unknown []string            `json:"unknown,omitempty"`
	Set     string              `json:"set,omitempty"`
	V       any                 `json:"v,omitempty"`
	Done    string              `json:"done,omitempty"`
	Values  map[string]toyValue `json:"values,omitempty"`
	Alive   bool                `json:"alive,omitempty"`
	List    *int                `json:"list,omitempty"` // paths, from this one on
	Held    []toyHeld           `json:"held,omitempty"`
	Next    string              `json:"next,omitempty"`
	Who     bool                `json:"who,omitempty"`
	Iam     string              `json:"iam,omitempty"`
}

type toyHeld struct {
	Path string     `json:"path"`
	Type value.Type `json:"type"`
	Size int        `json:"size,omitempty"`
	Set  bool       `json:"set,omitempty"`
}

type toyValue struct {
	V any    `json:"v"`
	Q string `json:"q"`
	T int64  `json:"t"`
}

func (m toyMessage) line() []byte {
	data, err := json.Marshal(m)
	if err != nil {
		panic(err)
	}
	return append(data, '\n')
}

// toyNative is a value as JSON has it, and back.
func toyNative(v any) value.Value {
	switch v := v.(type) {
	case bool:
		return value.OfBool(v)
	case float64:
		return value.OfFloat(v)
	case string:
		return value.OfText(v)
	}
	return value.Value{}
}

func toyJSON(v value.Value) any {
	switch v.Kind() {
	case value.Bool:
		return v.Bool()
	case value.Text:
		return v.Text()
	}
	return v.Float()
}

type toyDriver struct{}

func (toyDriver) Dial(ctx context.Context, t field.Target) (field.Conn, field.Reply) {
	phrase, err := t.Secret(toyDef, "phrase") // the same in both protocols
	if err != nil {
		return nil, field.Reply{Outcome: exchange.NotAllowed, Stop: route.Session, Sentence: err.Error()}
	}
	socket, err := net.DialTimeout("tcp", t.Dial, time.Second)
	if errors.Is(err, syscall.ECONNREFUSED) {
		return nil, field.Reply{Outcome: exchange.Refused, Sentence: "nobody listens"}
	} else if err != nil {
		return nil, field.Reply{Outcome: exchange.Reset, Sentence: "it takes the connection and tears it down"}
	}
	c := &toyConn{socket: socket, answers: make(chan toyMessage, 1), reports: make(chan field.Report, 8),
		gone: make(chan struct{}), ended: field.Reply{Outcome: exchange.Closed, Sentence: "the device ended the connection"}}
	context.AfterFunc(ctx, func() { _ = socket.Close() })
	go c.listen(ctx)
	hello := toyMessage{Client: toyDef.Value(t.Settings, "client").Text(), Phrase: string(phrase)}
	answer, reply := c.ask(hello)
	reply.Stop = route.Session
	if reply.Request = nil; reply.OK() && answer.Refused > 0 { // it holds the phrase
		reply = field.Reply{Outcome: exchange.Declined, Code: answer.Refused, Stop: route.Session,
			Sentence: toyRules{}.Decline(answer.Refused).Title}
	}
	if !reply.OK() {
		_ = socket.Close()
		return nil, reply
	}
	return c, reply
}

func (toyDriver) Dissect(frames []exchange.Frame, points []exchange.Labelled) [][]exchange.Field {
	request, _ := exchange.Sides(frames)
	var came []exchange.Field
	for _, p := range points {
		came = append(came, exchange.Field{From: p.From, To: p.To, Label: p.Name, Role: "point", Meaning: p.Shown,
			Point: p.ID})
	}
	return exchange.Spread(frames, []exchange.Field{{To: len(request), Label: "request", Role: "frame"}}, came)
}

type toyConn struct {
	socket  net.Conn
	answers chan toyMessage
	reports chan field.Report
	mu      sync.Mutex
	wanted  map[string]string // ids by path
	ended   field.Reply
	over    atomic.Bool
	gone    chan struct{}
}

// listen takes in the lines of the device until the connection ends.
func (c *toyConn) listen(ctx context.Context) {
	defer close(c.reports)
	defer close(c.gone)
	defer c.over.Store(true)
	lines := bufio.NewScanner(c.socket)
	for lines.Scan() {
		line := bytes.Clone(lines.Bytes())
		report := field.Report{At: time.Now(), Octets: line, Operation: "sign of life"}
		var m toyMessage
		err := json.Unmarshal(line, &m)
		switch {
		case err != nil:
			report.Wrong, report.Operation = "a line that is no JSON came", "values"
		case m.Values != nil:
			report.Operation = fmt.Sprintf("values of %d paths", len(m.Values))
			report.Samples = c.samples(line, m.Values)
		case !m.Alive:
			c.answers <- m
			continue
		}
		select {
		case c.reports <- report:
		case <-ctx.Done():
			return
		}
	}
}

func (c *toyConn) samples(line []byte, values map[string]toyValue) (list []field.Sampled) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for path, v := range values {
		id, ok := c.wanted[path]
		if !ok {
			continue
		}
		from := bytes.Index(line, []byte(`"`+path+`"`))
		to := from + bytes.IndexByte(line[from:], '}') + 1
		list = append(list, field.Sampled{ID: id, Value: toyNative(v.V), Time: time.UnixMilli(v.T), From: from, To: to,
			Quality: map[string]value.Quality{"doubt": value.Doubtful, "bad": value.Bad}[v.Q], Reason: "the device says so"})
	}
	return list
}

func (c *toyConn) ask(m toyMessage) (toyMessage, field.Reply) {
	request := m.line()
	if _, err := c.socket.Write(request); err != nil {
		c.over.Store(true)
		return m, field.Reply{Outcome: exchange.Closed, Sentence: "the connection is closed"}
	}
	answered := func(answer toyMessage) (toyMessage, field.Reply) {
		return answer, field.Reply{Outcome: exchange.Answered, Request: request, Answer: answer.line(), Left: true}
	}
	select {
	case answer := <-c.answers:
		return answered(answer)
	case <-c.gone:
		select {
		case answer := <-c.answers: // it came before the end
			return answered(answer)
		default:
		}
		return m, field.Reply{Outcome: exchange.Closed, Sentence: "the device ended the connection", Request: request,
			Left: true}
	case <-time.After(time.Second):
		return m, field.Reply{Outcome: exchange.NoAnswer, Sentence: "nothing came back", Request: request, Left: true}
	}
}

func (c *toyConn) Follow(wanted []protocol.Wanted) (field.Reply, []field.Refusal) {
	m, ids := toyMessage{}, map[string]string{}
	for _, w := range wanted {
		_, path, _ := w.Address.Name()
		ids[path] = w.ID
		m.Follow = append(m.Follow, path)
	}
	c.mu.Lock()
	c.wanted = ids
	c.mu.Unlock()
	answer, reply := c.ask(m)
	var refused []field.Refusal
	for _, path := range answer.Unknown {
		refused = append(refused, field.Refusal{ID: ids[path], Code: 2, Sentence: "the device has no such path"})
	}
	return reply, refused
}

func (c *toyConn) WriteItem(to protocol.Wanted, v value.Value, pass field.Pass) field.Reply {
	left, err := pass()
	if err != nil {
		return field.Reply{Outcome: exchange.NotAllowed, Sentence: err.Error()}
	}
	defer left()
	_, path, _ := to.Address.Name()
	answer, reply := c.ask(toyMessage{Set: path, V: toyJSON(v)})
	if reply.OK() && answer.Refused > 0 {
		reply.Outcome, reply.Code, reply.Sentence = exchange.Declined, answer.Refused, "the device has no such path"
	}
	return reply
}

func (c *toyConn) Reports() <-chan field.Report { return c.reports }
func (c *toyConn) Ended() field.Reply           { return c.ended }
func (c *toyConn) Toward(protocol.Settings)     {}
func (c *toyConn) Break()                       {}
func (c *toyConn) Usable() bool                 { return !c.over.Load() }
func (c *toyConn) Close() error                 { return c.socket.Close() }

// toySpeech is the toy's stand-in.
type toySpeech struct{}

func (toySpeech) Faults() []bench.FaultKind {
	tcp := []bench.Place{bench.OverTCP}
	return []bench.FaultKind{
		{Kind: "toy-mute", Title: "sends nothing, not even signs of life", Places: tcp},
		{Kind: "toy-renamed", Title: "has no path that ends in Oxygen", Places: tcp},
		{Kind: "toy-texts", Title: "sends numbers as texts", Places: tcp},
		{Kind: "toy-bad", Title: "says that its values are bad", Places: tcp},
		{Kind: "toy-rounds", Title: "has a list without an end", Places: tcp},
		{Kind: "toy-babble", Title: "sends lines that are no JSON", Places: tcp},
	}
}

func (toySpeech) Talk(of *bench.Simulated) bench.Talk { return &toyTalk{of: of} }

type toyTalk struct {
	of     *bench.Simulated
	let    bool
	paths  []string
	told   map[string]value.Value
	spoken time.Time
}

func (t *toyTalk) Length(came []byte) (int, error) { return bytes.IndexByte(came, '\n') + 1, nil }

func (t *toyTalk) Answer(request []byte, fault bench.Fault, _ int) (answer []byte, ends bool) {
	var m toyMessage
	if json.Unmarshal(request, &m) != nil {
		return nil, true
	}
	switch {
	case m.Client != "":
		if t.let = m.Phrase == toyPhrase; !t.let {
			return toyMessage{Refused: 1}.line(), true
		}
		return toyMessage{OK: true}.line(), false
	case m.Who:
		return toyMessage{Iam: "toy hall"}.line(), true
	case !t.let:
		return nil, true
	case m.Set != "":
		if !t.of.Memory.Set(address.Named("path", m.Set), toyNative(m.V)) {
			return toyMessage{Refused: 2}.line(), false
		}
		return toyMessage{Done: m.Set}.line(), false
	case m.List != nil:
		all, list := t.of.Memory.Held(), toyMessage{OK: true}
		for i := *m.List; i < len(all) && i < *m.List+3; i++ {
			_, path, _ := all[i].Address.Name()
			list.Held = append(list.Held, toyHeld{path, all[i].Shape.Type, all[i].Shape.Length, all[i].Writable})
		}
		if end := *m.List + 3; end < len(all) {
			list.Next = fmt.Sprint(end)
		}
		if fault.Kind == "toy-rounds" {
			list.Next = "1"
		}
		return list.line(), false
	case m.Ask != nil:
		given := toyMessage{Given: map[string]toyValue{}}
		for _, path := range m.Ask {
			v, known := t.of.Memory.Value(address.Named("path", path))
			switch {
			case !known || fault.Kind == "toy-renamed" && strings.HasSuffix(path, "Oxygen"):
				given.Unknown = append(given.Unknown, path)
			case fault.Kind == "toy-texts":
				given.Given[path] = toyValue{V: fmt.Sprint(toyJSON(v)), Q: "good", T: time.Now().UnixMilli()}
			default:
				given.Given[path] = toyValue{V: toyJSON(v), Q: "good", T: time.Now().UnixMilli()}
			}
		}
		return given.line(), false
	}
	t.paths, t.told = nil, map[string]value.Value{}
	var unknown []string
	for _, path := range m.Follow {
		_, known := t.of.Memory.Value(address.Named("path", path))
		if !known || fault.Kind == "toy-renamed" && strings.HasSuffix(path, "Oxygen") {
			unknown = append(unknown, path)
			continue
		}
		t.paths = append(t.paths, path)
	}
	taken := len(t.paths)
	return toyMessage{Taken: &taken, Unknown: unknown}.line(), false
}

func (t *toyTalk) Push(now time.Time, fault bench.Fault) (octets []byte, again time.Duration) {
	again = 20 * time.Millisecond
	if !t.let || fault.Kind == "toy-mute" {
		return nil, again
	}
	if fault.Kind == "toy-babble" {
		return []byte("}{ no line of ours\n"), 100 * time.Millisecond
	}
	m := toyMessage{Values: map[string]toyValue{}}
	for _, path := range t.paths {
		v, _ := t.of.Memory.Value(address.Named("path", path))
		if t.told[path] == v {
			continue
		}
		t.told[path] = v
		sent := toyValue{V: toyJSON(v), Q: "good", T: now.Add(-time.Second).UnixMilli()} // its clock is behind
		switch fault.Kind {
		case "toy-texts":
			sent.V = fmt.Sprint(sent.V)
		case "toy-bad":
			sent.Q = "bad"
		}
		m.Values[path] = sent
	}
	if len(m.Values) == 0 {
		alive := time.Duration(toyDef.Int(t.of.Settings, "aliveMs")) * time.Millisecond
		if now.Sub(t.spoken) < alive {
			return nil, again
		}
		m = toyMessage{Alive: true}
	}
	t.spoken = now
	return m.line(), again
}

// toyAsked is the toy's second protocol, over the same wire: it sends nothing by
// itself, and is asked for paths by their names, up to three at once.
var toyAsked = &protocol.Def{Name: "toy-asked", Title: "Toy, asked", Medium: "ethernet", Example: toyDef.Example,
	Turns: protocol.TurnsOfLink, Scheme: toyScheme{}, Rules: toyAsks{}, Settings: slices.Clone(toyDef.Settings)}

type toyAsks struct{}

func (toyAsks) AskRoom(protocol.Settings) protocol.AskRoom {
	return protocol.AskRoom{Items: 3, Out: 200, OutHead: 60, InHead: 60}
}
func (toyAsks) AskBytes(protocol.Wanted) (out, in int) { return 20, 50 }
func (toyAsks) Asking(w []protocol.Wanted) string      { return fmt.Sprintf("ask for %d paths", len(w)) }
func (toyAsks) Calling() string                        { return "Ask all halls" }
func (toyAsks) Description() string                    { return "path lists" }
func (toyAsks) Described(data []byte) bool             { return strings.HasPrefix(string(data)+"\n", "PATHS\n") }

// Describe reads lines of a path, a type and, for what can be set, an exclamation mark.
func (toyAsks) Describe(data []byte) (held []protocol.Held, unread []protocol.Unread, err error) {
	for i, line := range strings.Split(strings.TrimSpace(string(data)), "\n")[1:] {
		cells := strings.Split(line, ";")
		if len(cells) != 2 {
			unread = append(unread, protocol.Unread{Line: i + 2, What: line, Reason: "it has no type"})
			continue
		}
		kind, set := strings.CutSuffix(cells[1], "!")
		held = append(held, protocol.Held{Address: address.Named("path", cells[0]), Name: path.Base(cells[0]), Writable: set,
			Shape: value.Shape{Type: value.Type(kind)}})
	}
	if len(held) == 0 {
		return nil, nil, errors.New("it has no path")
	}
	return held, unread, nil
}
func (toyAsks) Listed() string                                       { return "paths" }
func (toyAsks) AskFunction() string                                  { return "ask" }
func (toyAsks) Writable(a address.Address) error                     { return toyRules{}.Writable(a) }
func (toyAsks) WriteItem(a address.Address) string                   { return toyRules{}.WriteItem(a) }
func (toyAsks) ItemBytes(address.Address, value.Shape) (out, in int) { return 100, 80 }
func (toyAsks) Decline(code int) protocol.Declined                   { return toyRules{}.Decline(code) }

// toyAsker is a connection of it: none that listens.
type toyAsker struct{ *toyConn }

func (toyAsker) Reports() {} // it is no Reporter
func (c toyAsker) AskItems(wanted []protocol.Wanted) (field.Reply, []field.Sampled) {
	ids, m := map[string]string{}, toyMessage{}
	for _, w := range wanted {
		_, path, _ := w.Address.Name()
		ids[path] = w.ID
		m.Ask = append(m.Ask, path)
	}
	c.mu.Lock()
	c.wanted = ids
	c.mu.Unlock()
	answer, reply := c.ask(m)
	list := c.samples(reply.Answer, answer.Given)
	for _, path := range answer.Unknown {
		list = append(list, field.Sampled{ID: ids[path], Quality: value.Bad, Reason: "the device has no such path"})
	}
	return reply, list
}

func (c toyAsker) List(after string) (held []protocol.Held, next string, reply field.Reply) {
	from, _ := strconv.Atoi(after)
	answer, reply := c.ask(toyMessage{List: &from})
	for _, h := range answer.Held {
		held = append(held, protocol.Held{Address: address.Named("path", h.Path), Name: path.Base(h.Path), Writable: h.Set,
			Shape: value.Shape{Type: h.Type, Length: h.Size}})
	}
	return held, answer.Next, reply
}

type toyAskedDriver struct{ toyDriver }

func (d toyAskedDriver) Dial(ctx context.Context, t field.Target) (field.Conn, field.Reply) {
	conn, reply := d.toyDriver.Dial(ctx, t)
	if conn == nil {
		return nil, reply
	}
	go func() {
		for range conn.(*toyConn).reports { // nobody listens
		}
	}()
	return toyAsker{conn.(*toyConn)}, reply
}

// Call asks a stand-in: the toy has no broadcast.
func (toyAskedDriver) Call(ctx context.Context, at field.Target, _ field.Stations, heard func(field.Found)) error {
	var d net.Dialer
	socket, err := d.DialContext(ctx, "tcp", at.Dial)
	if err != nil {
		return err
	}
	defer socket.Close()
	if _, err := socket.Write(toyMessage{Who: true}.line()); err != nil {
		return err
	}
	var m toyMessage
	if err := json.NewDecoder(socket).Decode(&m); err != nil {
		return err
	}
	for range 2 { // halls say it twice
		heard(field.Found{Identity: m.Iam, Settings: protocol.Settings{"aliveMs": protocol.OfInt(150)}})
	}
	return nil
}

func init() {
	protocol.Register(toyAsked)
	field.Register(toyAsked.Name, toyAskedDriver{})
	bench.Register(toyAsked.Name, toySpeech{})
	protocol.Register(toyDef)
	field.Register(toyDef.Name, toyDriver{})
	bench.Register(toyDef.Name, toySpeech{})
}
