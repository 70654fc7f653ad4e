package iec61850

import (
	"time"

	family "ferry/internal/core/family/iec61850"
	"ferry/internal/core/value"
	wire "ferry/internal/wire/iec61850"
)

// control is data that is operated (IEC 61850-7-2, clause 20).
type control struct {
	object   *object
	selected *session
	until    time.Time
	value    wire.Data // that was selected with it, none where only selected
}

// Control models (IEC 61850-7-2, clause 20.1).
const (
	statusOnly = iota
	directNormal
	selectNormal
	directEnhanced
	selectEnhanced
)

// keptSelected is for how long a selection counts where the file says nothing.
const keptSelected = 30 * time.Second

// model is how it is operated.
func (c *control) model() int64 {
	for _, p := range c.object.node.Parts {
		if p.Name == "ctlModel" {
			item := c.item("CF") + "$ctlModel"
			if e := c.object.domain.items[item]; e != nil {
				return e.data.Int
			}
		}
	}
	return directNormal
}

// item is that of its data under a constraint.
func (c *control) item(fc string) string {
	item := c.object.path[0] + "$" + fc
	for _, name := range c.object.path[1:] {
		item += "$" + name
	}
	return item
}

// select_ has a client select it by reading SBO: the answer names it, or nothing.
func (c *control) choose(by *session, now time.Time) (item string) {
	if c.model() != selectNormal || c.held(by, now) {
		return ""
	}
	c.selected, c.until, c.value = by, now.Add(keptSelected), wire.Data{}
	return c.object.domain.name + "/" + c.item("CO")
}

// held reports whether another client has selected it.
func (c *control) held(by *session, now time.Time) bool {
	return c.selected != nil && c.selected != by && now.Before(c.until)
}

// Additional causes (IEC 61850-7-2, table 57).
const (
	causeNotSupported = 1
	causeSelectFailed = 3
	causeNotSelected  = 18
	causeSelected     = 19
	causeInconsistent = 26
	causeDenied       = 20
	causeTimeOver     = 16
	causeUnknown      = 0
)

// Ended is how a command ended: a data access error, -1 for well, and the additional cause.
type Ended struct{ Refused, Cause int }

// endsWithin is how long a command may take; then it is said that its time is over.
const endsWithin = 15 * time.Second

// write takes what is written to Oper, SBOw or Cancel. It returns a data access error, -1 for taken,
// and the additional cause of a refusal; ends tells how a command ends that is under way, nil where it
// has ended.
func (c *control) write(by *session, service string, d *wire.Data, now time.Time) (refused, cause int,
	ends <-chan Ended) {
	model := c.model()
	held := c.held(by, now)
	mine := c.selected == by && now.Before(c.until)
	switch {
	case model == statusOnly:
		return family.AccessDenied, causeNotSupported, nil
	case held:
		return family.AccessUnavailable, causeSelected, nil
	case d.Kind != family.Structure || len(d.Parts) < 5:
		return family.AccessType, causeInconsistent, nil
	}
	switch service {
	case "Cancel":
		c.selected = nil
		return -1, 0, nil
	case "SBOw":
		if model != selectEnhanced {
			return family.AccessDenied, causeNotSupported, nil
		}
		c.selected, c.until, c.value = by, now.Add(keptSelected), d.Parts[0]
		return -1, 0, nil
	case "Oper":
		if (model == selectNormal || model == selectEnhanced) && !mine {
			return family.AccessDenied, causeNotSelected, nil
		}
		if model == selectEnhanced && !c.value.Same(&d.Parts[0]) {
			return family.AccessDenied, causeInconsistent, nil
		}
		c.selected = nil
		return c.operate(by, d)
	}
	return family.AccessNotThere, causeNotSupported, nil
}

// operate carries a command out: its value is that of a point.
func (c *control) operate(by *session, d *wire.Data) (refused, cause int, ends <-chan Ended) {
	of := c.object.domain.items[c.item("CO")+"$Oper$ctlVal"]
	value := &d.Parts[0]
	path := append(append([]string{}, c.object.path[1:]...), "Oper", "ctlVal")
	for of != nil && of.kind == family.NoKind && len(of.parts) > 0 &&
		len(value.Parts) > 0 { // an analogue value has a part for that
		of, value = of.parts[0], &value.Parts[0]
		path = append(path, of.name)
	}
	v, ok := plain(value)
	if of == nil || !ok || value.Kind != of.kind {
		return family.AccessType, causeInconsistent, nil
	}
	if test := d.Parts[len(d.Parts)-2]; test.Kind == family.Boolean && test.Int != 0 {
		return -1, 0, nil // a test changes nothing
	}
	r := family.Ref{Device: c.object.domain.name, Node: c.object.path[0], FC: "CO", Path: path}
	if refused, ends = by.server.config.Write(by.conn, c.object.domain.inst, r, v); refused >= 0 {
		return refused, causeDenied, nil
	}
	return -1, 0, ends
}

// enhanced reports whether it is told how a command ended.
func (c *control) enhanced() bool { m := c.model(); return m == directEnhanced || m == selectEnhanced }

// awaited is how a command ended that is under way.
func awaited(ends <-chan Ended) Ended {
	timer := time.NewTimer(endsWithin)
	defer timer.Stop()
	select {
	case e := <-ends:
		return e
	case <-timer.C:
		return Ended{family.AccessUnavailable, causeTimeOver}
	}
}

// terminated is the report that a command was carried out, with what was written.
func (c *control) terminated(d wire.Data) []byte {
	return wire.ReportOf([]wire.Name{{Domain: c.object.domain.name, Item: c.item("CO") + "$Oper"}},
		[]wire.Result{{Data: d, Refused: -1}})
}

// unterminated is the report that a command failed that was taken (IEC 61850-8-1, clause 20.9).
func (c *control) unterminated(d wire.Data, cause int) []byte {
	return wire.ReportOf([]wire.Name{{Item: "LastApplError"},
		{Domain: c.object.domain.name, Item: c.item("CO") + "$Oper"}},
		[]wire.Result{{Data: c.lastError("Oper", &d, cause), Refused: -1}, {Data: d, Refused: -1}})
}

// failed is the report that says why a command was refused (IEC 61850-8-1, clause 20.8).
func (c *control) failed(service string, d *wire.Data, cause int) []byte {
	return wire.ReportOf([]wire.Name{{Item: "LastApplError"}},
		[]wire.Result{{Data: c.lastError(service, d, cause), Refused: -1}})
}

func (c *control) lastError(service string, d *wire.Data, cause int) wire.Data {
	origin, number := wire.Data{Kind: family.Structure, Parts: []wire.Data{{Kind: family.Integer, Size: 8},
		{Kind: family.OctetString}}},
		wire.Data{Kind: family.Unsigned, Size: 8}
	if d.Kind == family.Structure && len(d.Parts) >= 3 {
		origin, number = d.Parts[1], d.Parts[2]
	}
	return wire.Data{Kind: family.Structure, Parts: []wire.Data{
		{Kind: family.VisibleString, Text: c.object.domain.name + "/" + c.item("CO") + "$" + service},
		{Kind: family.Integer, Int: 0, Size: 8}, origin, number, {Kind: family.Integer, Int: int64(cause), Size: 8}}}
}

// Value is what stands in an attribute.
type Value struct {
	Value   value.Value
	Quality value.Quality
	Reason  string
	At      time.Time
	// Mark is for Config.Gave; nil where nobody wants to know whether it was given.
	Mark any
}
