package iec61850

import (
	"slices"
	"strconv"
	"strings"

	"ferry/internal/bench"
	family "ferry/internal/core/family/iec61850"
	wire "ferry/internal/wire/iec61850"
)

// What a caller does with what it hears: it learns the model, has reports sent, reads all values, shows
// them, and gives commands.

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
		refused, err := c.write(wire.Name{Domain: r.Domain, Item: r.Item + "$RptEna"},
			wire.Data{Kind: family.Boolean, Int: 1})
		if err != nil {
			return err
		}
		if refused >= 0 {
			continue // another has it
		}
		taken[r.Domain+base] = true
		if _, err := c.write(wire.Name{Domain: r.Domain, Item: r.Item + "$GI"},
			wire.Data{Kind: family.Boolean, Int: 1}); err != nil {
			return err
		}
	}
	return nil
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
