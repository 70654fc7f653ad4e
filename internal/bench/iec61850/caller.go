package iec61850

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"ferry/internal/bench"
	family "ferry/internal/core/family/iec61850"
	wire "ferry/internal/wire/iec61850"
	"ferry/internal/wire/isotcp"
)

// Caller names who asks a server.
func (speech) Caller() string { return "substation controller" }

// How a caller asks.
const (
	answerWithin = 5 * time.Second
	roundEvery   = time.Second
	readAtOnce   = 60
)

// Call plays a substation controller.
func (speech) Call(ctx context.Context, over net.Conn, screen *bench.Screen) error {
	c := &caller{conn: over, screen: screen, objects: map[string]*object{}, sets: map[string][]wire.Name{}}
	if err := c.begin(); err != nil {
		return err
	}
	if err := c.model(); err != nil {
		return err
	}
	if err := c.enable(); err != nil {
		return err
	}
	tick := time.NewTicker(roundEvery)
	defer tick.Stop()
	for {
		if err := c.round(); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return nil
		case o := <-screen.Orders:
			err := c.operate(o.Name, o.On)
			var refused refusal
			o.Done(err)
			if err != nil && !errors.As(err, &refused) {
				return err
			}
		case <-tick.C:
		}
	}
}

// caller is a conversation of a client, which asks one question at a time.
type caller struct {
	conn    net.Conn
	screen  *bench.Screen
	held    []byte // of the next message
	message []byte
	invoke  uint32
	objects map[string]*object     // by the domain and the item of their data
	sets    map[string][]wire.Name // of reports, by the names of data sets
	order   []*object
	reports []wire.Name // control blocks
	domains map[string]map[string]bool
}

// object is data that has a value, a quality and a time.
type object struct {
	domain, item string // "LD0", "GGIO1$MX$AnIn1"
	value        string // the attribute in it: "mag$f"
}

// refusal is an answer that says no.
type refusal string

func (r refusal) Error() string { return string(r) }

// begin opens the transport and the association.
func (c *caller) begin() error {
	if _, err := c.conn.Write(isotcp.AppendConnect(nil, 1, 1, isotcp.Size8192)); err != nil {
		return err
	}
	t, err := c.frame()
	if err != nil {
		return err
	}
	if t.Kind != isotcp.ConnectConfirm {
		return errors.New("the transport is refused")
	}
	if _, err := c.conn.Write(isotcp.AppendData(nil, wire.Associate(wire.DefaultInitiation(), wire.Selectors{}), isotcp.Size8192)); err != nil {
		return err
	}
	h, err := c.hear()
	switch {
	case err != nil:
		return err
	case !h.Accepts || h.Why != "":
		return fmt.Errorf("the association is refused: %s", h.Why)
	}
	return nil
}

func (c *caller) frame() (isotcp.TPDU, error) {
	buf := make([]byte, 4096)
	for {
		n, err := isotcp.Frame(c.held, 1<<16)
		if err != nil {
			return isotcp.TPDU{}, err
		}
		if n > 0 {
			t, err := isotcp.ParseTPDU(c.held[:n])
			t.Rest = slices.Clone(t.Rest)
			c.held = append(c.held[:0], c.held[n:]...)
			return t, err
		}
		if err := c.conn.SetReadDeadline(time.Now().Add(answerWithin)); err != nil {
			return isotcp.TPDU{}, err
		}
		got, err := c.conn.Read(buf)
		if err != nil {
			return isotcp.TPDU{}, err
		}
		c.held = append(c.held, buf[:got]...)
	}
}

// hear reads a whole message.
func (c *caller) hear() (wire.Heard, error) {
	for {
		t, err := c.frame()
		if err != nil {
			return wire.Heard{}, err
		}
		if t.Kind != isotcp.Data {
			return wire.Heard{}, errors.New("the transport was ended")
		}
		c.message = append(c.message, t.Rest...)
		if t.Last {
			h, err := wire.Hear(slices.Clone(c.message))
			c.message = c.message[:0]
			return h, err
		}
	}
}

// ask asks a question, and takes the reports that come before its answer.
func (c *caller) ask(s wire.Service, body []byte) ([]byte, error) {
	c.invoke++
	if err := c.conn.SetWriteDeadline(time.Now().Add(answerWithin)); err != nil {
		return nil, err
	}
	question := isotcp.AppendData(nil, wire.Speak(wire.Question(c.invoke, s, body)), isotcp.Size8192)
	if _, err := c.conn.Write(question); err != nil {
		return nil, err
	}
	for {
		h, err := c.hear()
		if err != nil {
			return nil, err
		}
		if h.Ends {
			return nil, errors.New("the conversation was ended")
		}
		m, err := wire.ParseMessage(h.MMS)
		if err != nil {
			return nil, err
		}
		switch {
		case m.Kind == wire.Unconfirmed:
			c.report(&m)
		case m.Invoke != c.invoke:
		case m.Kind == wire.Response:
			return m.Body, nil
		default:
			return nil, refusal(fmt.Sprintf("error of class %d, code %d", m.Class, m.Code))
		}
	}
}

func (c *caller) names(class int, domain string) (all []string, err error) {
	q := wire.NameList{Class: class, Domain: domain}
	for {
		body, err := c.ask(wire.GetNameList, q.Octets())
		if err != nil {
			return nil, err
		}
		list, more, err := wire.ReadNames(body)
		if err != nil {
			return nil, err
		}
		if all = append(all, list...); !more || len(list) == 0 {
			return all, nil
		}
		q.After = list[len(list)-1]
	}
}

// model learns what is there.
func (c *caller) model() error {
	domains, err := c.names(wire.Domains, "")
	if err != nil {
		return err
	}
	c.domains = map[string]map[string]bool{}
	var commands []string
	for _, domain := range domains {
		items, err := c.names(wire.Variables, domain)
		if err != nil {
			return err
		}
		has := map[string]bool{}
		for _, item := range items {
			has[item] = true
		}
		c.domains[domain] = has
		for _, item := range items {
			if data, is := strings.CutSuffix(item, "$q"); is {
				if value := valueIn(items, data); value != "" {
					o := &object{domain, data, value}
					c.objects[domain+"/"+data] = o
					c.order = append(c.order, o)
				}
			}
			if data, is := strings.CutSuffix(item, "$Oper"); is {
				commands = append(commands, domain+"/"+plainly(data))
			}
			if _, is := strings.CutSuffix(item, "$RptEna"); is {
				c.reports = append(c.reports, wire.Name{Domain: domain, Item: strings.TrimSuffix(item, "$RptEna")})
			}
		}
		lists, err := c.names(wire.Lists, domain)
		if err != nil {
			return err
		}
		for _, item := range lists {
			body, err := c.ask(wire.GetMembersOf, wire.MembersOf(wire.Name{Domain: domain, Item: item}))
			if err != nil {
				return err
			}
			if c.sets[domain+"/"+item], err = wire.ReadMembers(body); err != nil {
				return err
			}
		}
	}
	c.screen.Commands(commands)
	return nil
}

// plainly is the item of data as people write it: "GGIO1.SPCSO1".
func plainly(item string) string {
	parts := strings.Split(item, "$")
	return strings.Join(append(parts[:1:1], parts[2:]...), ".")
}

// valueIn is the attribute of data that has its value: it has no parts, and is neither quality nor time.
func valueIn(items []string, data string) string {
	for i, item := range items {
		inner, is := strings.CutPrefix(item, data+"$")
		if !is || inner == "q" || inner == "t" || i+1 < len(items) && strings.HasPrefix(items[i+1], item+"$") {
			continue
		}
		return inner
	}
	return ""
}

// enable has all reports sent that nobody has yet, of each name the first, and asks for all once.
func (c *caller) enable() error {
	taken := map[string]bool{}
	for _, r := range c.reports {
		base := strings.TrimRight(r.Item, "0123456789")
		if taken[r.Domain+base] {
			continue
		}
		refused, err := c.write(wire.Name{Domain: r.Domain, Item: r.Item + "$RptEna"}, wire.Data{Kind: family.Boolean, Int: 1})
		if err != nil {
			return err
		}
		if refused >= 0 {
			continue // another has it
		}
		taken[r.Domain+base] = true
		if _, err := c.write(wire.Name{Domain: r.Domain, Item: r.Item + "$GI"}, wire.Data{Kind: family.Boolean, Int: 1}); err != nil {
			return err
		}
	}
	return nil
}

func (c *caller) write(n wire.Name, d wire.Data) (refused int, err error) {
	body, err := c.ask(wire.Write, wire.WriteOf([]wire.Name{n}, []wire.Data{d}))
	if err != nil {
		return 0, err
	}
	list, err := wire.ReadWritten(body)
	if err != nil || len(list) != 1 {
		return 0, cmpErr(err)
	}
	return list[0], nil
}

func cmpErr(err error) error {
	if err == nil {
		err = errors.New("the answer has not as many results as were asked for")
	}
	return err
}

func (c *caller) read(names []wire.Name) ([]wire.Result, error) {
	body, err := c.ask(wire.Read, wire.ReadOf(names))
	if err != nil {
		return nil, err
	}
	list, err := wire.ReadResults(body, 0)
	if err != nil || len(list) != len(names) {
		return nil, cmpErr(err)
	}
	return list, nil
}

// round reads all values.
func (c *caller) round() error {
	for part := range slices.Chunk(c.order, readAtOnce/3) {
		names := make([]wire.Name, 0, readAtOnce)
		for _, o := range part {
			for _, inner := range []string{o.value, "q", "t"} {
				names = append(names, wire.Name{Domain: o.domain, Item: o.item + "$" + inner})
			}
		}
		results, err := c.read(names)
		if err != nil {
			return err
		}
		for i, o := range part {
			if v := &results[3*i]; v.Refused < 0 {
				c.show(o, &v.Data, &results[3*i+1], &results[3*i+2], false)
			}
		}
	}
	return nil
}

func (c *caller) show(o *object, v *wire.Data, quality, at *wire.Result, reported bool) {
	shown := bench.Shown{Name: o.domain + "/" + plainly(o.item), Value: words(v), Reported: reported}
	if quality != nil && quality.Refused < 0 {
		is, _ := family.Quality(quality.Data.Bits).Means()
		shown.Quality = string(is)
	}
	if at != nil && at.Refused < 0 && !at.Data.Time.IsZero() {
		shown.TimeMs = at.Data.Time.UnixMilli()
	}
	c.screen.Show(shown)
}

// words are a value as a screen has it.
func words(d *wire.Data) string {
	switch d.Kind {
	case family.Boolean:
		if d.Int != 0 {
			return "on"
		}
		return "off"
	case family.Floating:
		return strconv.FormatFloat(d.Float, 'g', 7, 32)
	case family.BitString:
		if d.Size == 2 {
			return []string{"between", "on", "off", "bad"}[d.Bits&3]
		}
		return strconv.FormatUint(d.Bits, 2)
	case family.Integer, family.Unsigned:
		return strconv.FormatInt(d.Int, 10)
	}
	return d.Text
}

// What may stand in a report before the members that it includes, in this order, by the bits of its
// options (IEC 61850-8-1, clause 17.2); the name of the data set is the third.
var leading = []int{1, 2, 4, 6, 7, 8}

const (
	leadsName    = 4
	leadsPlaces  = 5 // a reference for each member that is included
	leadsSegment = 9 // the number of a part, and whether more follow
	qualityBits  = 13
)

// report takes what a report brings. Where it does not say of which data set it is, it is counted alone.
func (c *caller) report(m *wire.Message) {
	_, values, err := wire.ReadReport(m.Body, 0)
	if err != nil || len(values) < 3 {
		return
	}
	c.screen.Reported()
	options, at, set := &values[1].Data, 2, ""
	for _, bit := range leading {
		if !options.Bit(bit) {
			continue
		}
		if at >= len(values) {
			return
		}
		if bit == leadsName {
			set = values[at].Data.Text
		}
		at++
	}
	if options.Bit(leadsSegment) {
		at += 2
	}
	if at >= len(values) {
		return
	}
	included, members := &values[at].Data, c.sets[set]
	at++
	if options.Bit(leadsPlaces) {
		for i := range members {
			if included.Bit(i) {
				at++
			}
		}
	}
	for i, n := range members {
		if !included.Bit(i) {
			continue
		}
		if at >= len(values) {
			return
		}
		c.member(n, &values[at].Data)
		at++
	}
}

// member shows a member of a data set: data with its parts, or the attribute that has its value.
func (c *caller) member(n wire.Name, d *wire.Data) {
	if o := c.objects[n.Domain+"/"+n.Item]; o != nil {
		var v, quality, at *wire.Result
		for i := range d.Parts {
			p := &wire.Result{Data: d.Parts[i], Refused: -1}
			switch {
			case p.Data.Kind == family.BitString && p.Data.Size == qualityBits:
				quality = p
			case p.Data.Kind == family.UTCTime:
				at = p
			case v == nil:
				for v = p; len(v.Data.Parts) > 0; {
					v = &wire.Result{Data: v.Data.Parts[0], Refused: -1}
				}
			}
		}
		if v != nil {
			c.show(o, &v.Data, quality, at, true)
		}
		return
	}
	for data := n.Item; strings.Contains(data, "$"); data = data[:strings.LastIndexByte(data, '$')] {
		if o := c.objects[n.Domain+"/"+data]; o != nil && n.Item == data+"$"+o.value {
			c.show(o, d, nil, nil, true)
			return
		}
	}
}

// controlled is which control model data has.
func (c *caller) controlled(domain, data string) (int64, error) {
	list, err := c.read([]wire.Name{{Domain: domain, Item: strings.Replace(data, "$CO$", "$CF$", 1) + "$ctlModel"}})
	if err != nil || list[0].Refused >= 0 {
		return 1, err
	}
	return list[0].Data.Int, nil
}

// operate gives a command, as its control model wants it.
func (c *caller) operate(name string, on bool) error {
	domain, path, _ := strings.Cut(name, "/")
	node, rest, _ := strings.Cut(path, ".")
	data := node + "$CO$" + strings.ReplaceAll(rest, ".", "$")
	if !c.domains[domain][data+"$Oper"] {
		return refusal("there is no such command")
	}
	model, err := c.controlled(domain, data)
	if err != nil {
		return err
	}
	list, err := c.read([]wire.Name{{Domain: domain, Item: data + "$Oper"}})
	if err != nil {
		return err
	}
	d := list[0].Data
	if list[0].Refused >= 0 || len(d.Parts) < 5 || d.Parts[0].Kind != family.Boolean {
		return refusal("it is none that is switched on and off")
	}
	if d.Parts[0].Int = 0; on {
		d.Parts[0].Int = 1
	}
	switch model {
	case 2:
		chosen, err := c.read([]wire.Name{{Domain: domain, Item: data + "$SBO"}})
		if err != nil {
			return err
		}
		if chosen[0].Refused >= 0 || chosen[0].Data.Text == "" {
			return refusal("it could not be selected")
		}
	case 4:
		if refused, err := c.write(wire.Name{Domain: domain, Item: data + "$SBOw"}, d); err != nil || refused >= 0 {
			if err != nil {
				return err
			}
			return refusal("it could not be selected: " + family.Words(family.AccessCode(refused)))
		}
	}
	refused, err := c.write(wire.Name{Domain: domain, Item: data + "$Oper"}, d)
	if err == nil && refused >= 0 {
		return refusal(family.Words(family.AccessCode(refused)))
	}
	return err
}
