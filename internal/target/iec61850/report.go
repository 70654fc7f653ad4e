package iec61850

import (
	"encoding/binary"
	"fmt"
	"slices"
	"time"

	family "ferry/internal/core/family/iec61850"
	wire "ferry/internal/wire/iec61850"
)

// report is an instance of a report control block (IEC 61850-7-2, clause 17; IEC 61850-8-1, clause 17).
type report struct {
	domain   *domain
	of       *family.Report
	entry    *entry // the control block as a variable
	buffered bool

	set      *set
	id       string
	enabled  bool
	reserved *session
	number   uint64 // of the next report
	revision uint32
	options  uint64
	triggers uint64
	bufferMs uint32
	everyMs  uint32

	// pending is what changed and was not told yet, by the place in the set.
	pending map[int]change
	first   time.Time // when the first of it changed
	next    time.Time // when all is told without a change; zero for never
	// kept are the entries of a buffered report, told or not; sent is the number of the last that was.
	kept     []kept
	last     uint64
	sent     uint64
	overflow bool
	// given are the marks of what was made ready to be told.
	given []any
	// leads is set for the first instance, had for one that a client has had.
	leads, had bool
}

// change is a member of a set that changed.
type change struct {
	value  wire.Data
	marks  []any
	reason uint64
	at     time.Time
}

// kept is an entry of a buffered report.
type kept struct {
	id      uint64
	at      time.Time
	changes map[int]change
}

// Bits of options, triggers and reasons (IEC 61850-8-1, clauses 17.2 and 8.1.3), the first the lowest.
const (
	optSequence  = 1 << 1
	optTime      = 1 << 2
	optReason    = 1 << 3
	optDataSet   = 1 << 4
	optReference = 1 << 5
	optOverflow  = 1 << 6
	optEntry     = 1 << 7
	optRevision  = 1 << 8

	onData      = 1 << 1
	onQuality   = 1 << 2
	onUpdate    = 1 << 3
	onIntegrity = 1 << 4
	onInquiry   = 1 << 5
)

// mostKept bounds the entries of a buffered report.
const mostKept = 20_000

// members of control blocks, with their kinds.
var (
	shared = []struct {
		name string
		kind family.Kind
		size int
	}{{"RptID", family.VisibleString, 129}, {"RptEna", family.Boolean, 1}, {"Resv", family.Boolean, 1},
		{"DatSet", family.VisibleString, 129}, {"ConfRev", family.Unsigned, 32}, {"OptFlds", family.BitString, 10},
		{"BufTm", family.Unsigned, 32}, {"SqNum", family.Unsigned, 16}, {"TrgOps", family.BitString, 6},
		{"IntgPd", family.Unsigned, 32}, {"GI", family.Boolean, 1}, {"PurgeBuf", family.Boolean, 1},
		{"EntryID", family.OctetString, 8}, {"TimeofEntry", family.EntryTime, 48}, {"ResvTms", family.Integer, 16}}
	ofUnbuffered = []string{"PurgeBuf", "EntryID", "TimeofEntry", "ResvTms"}
)

// newReport makes an instance of a report, and puts its control block into the model.
func newReport(d *domain, ln string, of *family.Report, instance int) *report {
	name := of.Name
	if of.Indexed {
		name += fmt.Sprintf("%02d", instance+1)
	}
	fc := "RP"
	if of.Buffered {
		fc = "BR"
	}
	r := &report{domain: d, of: of, buffered: of.Buffered, set: d.sets[ln+"$"+of.DataSet], id: of.ID,
		revision: max(1, of.Revision), bufferMs: of.BufferMs, everyMs: of.IntegrityMs, pending: map[int]change{},
		leads: instance == 0}
	if r.id == "" {
		r.id = d.name + "/" + ln + "$" + fc + "$" + name
	}
	for option, bit := range map[string]uint64{"seqNum": optSequence, "timeStamp": optTime, "reasonCode": optReason,
		"dataSet": optDataSet,
		"dataRef": optReference, "bufOvfl": optOverflow, "entryID": optEntry, "configRef": optRevision} {
		if of.Options[option] {
			r.options |= bit
		}
	}
	for trigger, bit := range map[string]uint64{"dchg": onData, "qchg": onQuality, "dupd": onUpdate,
		"period": onIntegrity, "gi": onInquiry} {
		if of.Triggers[trigger] {
			r.triggers |= bit
		}
	}
	r.entry = &entry{name: name, fc: fc}
	for _, m := range shared {
		if slices.Contains(ofUnbuffered, m.name) && !r.buffered || m.name == "Resv" && r.buffered {
			continue
		}
		r.entry.parts = append(r.entry.parts, &entry{name: m.name, fc: fc, kind: m.kind, size: m.size, report: r})
	}
	for _, n := range d.nodes {
		if n.name == ln {
			under := n.part(fc)
			if under == nil {
				under = &entry{name: fc, fc: fc}
				n.parts = append(n.parts, under)
			}
			under.parts = append(under.parts, r.entry)
		}
	}
	return r
}

// member is the value of a member of the control block.
func (r *report) member(name string, kind family.Kind, size int) wire.Data {
	d := wire.Data{Kind: kind, Size: size}
	flag := func(on bool) {
		if on {
			d.Int = 1
		}
	}
	switch name {
	case "RptID":
		d.Text = r.id
	case "RptEna":
		flag(r.enabled)
	case "Resv":
		flag(r.reserved != nil)
	case "DatSet":
		if r.set != nil {
			d.Text = r.domain.name + "/" + r.set.item
		}
	case "ConfRev":
		d.Int = int64(r.revision)
	case "OptFlds":
		d.Bits = r.options
	case "BufTm":
		d.Int = int64(r.bufferMs)
	case "SqNum":
		d.Int = int64(r.number & 0xFFFF)
	case "TrgOps":
		d.Bits = r.triggers
	case "IntgPd":
		d.Int = int64(r.everyMs)
	case "EntryID":
		d.Text = entryID(r.sent)
	case "TimeofEntry":
		if n := len(r.kept); n > 0 {
			d.Time = r.kept[n-1].at
		}
	}
	return d
}

func entryID(n uint64) string { return string(binary.BigEndian.AppendUint64(nil, n)) }

// write changes a member of the control block; it returns a data access error, -1 for none.
func (r *report) write(by *session, name string, d *wire.Data, now time.Time) int {
	if r.reserved != nil && r.reserved != by {
		return family.AccessUnavailable
	}
	switch name {
	case "RptEna":
		return r.enable(by, d.Int != 0, now)
	case "GI":
		if !r.enabled {
			return family.AccessUnavailable
		}
		r.all(onInquiry, now)
		return -1
	case "Resv":
		if r.reserved = nil; d.Int != 0 {
			r.reserved = by
		}
		return -1
	case "SqNum", "ConfRev", "TimeofEntry":
		return family.AccessDenied
	}
	if r.enabled {
		return family.AccessUnavailable // disable it first
	}
	switch name {
	case "RptID":
		r.id = d.Text
	case "DatSet":
		return r.take(d.Text)
	case "OptFlds":
		r.options = d.Bits
	case "BufTm":
		r.bufferMs = uint32(min(d.Int, 3_600_000))
	case "TrgOps":
		r.triggers = d.Bits
	case "IntgPd":
		r.everyMs = uint32(min(d.Int, 24*3_600_000))
	case "PurgeBuf":
		if d.Int != 0 {
			r.kept, r.sent, r.overflow = nil, r.last, false
		}
	case "EntryID":
		return r.resume(d.Text)
	case "ResvTms":
	default:
		return family.AccessNotThere
	}
	return -1
}

// take has it report another data set.
func (r *report) take(text string) int {
	if text == "" {
		if r.set != nil {
			r.set.reports = slices.DeleteFunc(r.set.reports, func(each *report) bool { return each == r })
		}
		r.set = nil
		return -1
	}
	for item, s := range r.domain.sets {
		if text == item || text == r.domain.name+"/"+item {
			if r.set != s {
				if r.set != nil {
					r.set.reports = slices.DeleteFunc(r.set.reports, func(each *report) bool { return each == r })
				}
				s.reports = append(s.reports, r)
				r.set, r.kept, r.sent = s, nil, r.last
				r.revision++
			}
			return -1
		}
	}
	return family.AccessValue
}

// resume has entries told from behind one that a client has.
func (r *report) resume(id string) int {
	if len(id) != 8 {
		return family.AccessValue
	}
	n := binary.BigEndian.Uint64([]byte(id))
	switch {
	case n == 0 && len(r.kept) > 0:
		r.sent = r.kept[0].id - 1 // from the oldest
	case n > r.last:
		return family.AccessValue
	default:
		r.sent = n
	}
	return -1
}

func (r *report) enable(by *session, on bool, now time.Time) int {
	switch {
	case on && r.set == nil:
		return family.AccessAttribute
	case on == r.enabled:
		return -1
	case !on:
		r.stop()
		return -1
	}
	r.enabled, r.reserved, r.number, r.had = true, by, 0, true
	if r.next = (time.Time{}); r.everyMs > 0 && r.triggers&onIntegrity != 0 {
		r.next = now.Add(time.Duration(r.everyMs) * time.Millisecond)
	}
	if !r.buffered {
		clear(r.pending)
	}
	return -1
}

// stop ends it, as its client has gone or wants no more.
func (r *report) stop() {
	r.enabled, r.reserved, r.next = false, nil, time.Time{}
	if !r.buffered {
		clear(r.pending)
	}
}

// live reports whether changes are noted: a buffered one keeps them for who comes, of several instances
// the first, and those that somebody has had.
func (r *report) live() bool { return r.enabled || r.buffered && (r.leads || r.had) }

// changed notes that a member of the set changed, for one of the reasons in triggers.
func (r *report) changed(i int, value wire.Data, mark any, reason uint64, now time.Time) {
	if !r.live() || r.triggers&reason == 0 {
		return
	}
	if was, waits := r.pending[i]; waits {
		if was.reason&(onData|onUpdate) != 0 && reason&(onData|onUpdate) != 0 {
			r.flush(now) // the earlier value is told by itself
		} else {
			reason |= was.reason
		}
	}
	if len(r.pending) > 0 && !r.enabled && now.Sub(r.first) >= time.Duration(r.bufferMs)*time.Millisecond {
		r.flush(now) // nobody looks whether it is due
	}
	if len(r.pending) == 0 {
		r.first = now
	}
	var marks []any
	if mark != nil {
		marks = []any{mark}
	}
	r.pending[i] = change{value, marks, reason, now}
}

// all notes every member.
func (r *report) all(reason uint64, now time.Time) {
	if r.set == nil {
		return
	}
	r.flush(now)
	for i, m := range r.set.members {
		r.pending[i] = change{m.value(), m.marks(nil), reason, now}
	}
	r.flush(now)
}

// flush makes an entry of what is pending.
func (r *report) flush(now time.Time) {
	if len(r.pending) == 0 {
		return
	}
	r.last++
	at := now
	for _, c := range r.pending {
		at = c.at
	}
	r.kept = append(r.kept, kept{r.last, at, r.pending})
	r.pending = map[int]change{}
	if len(r.kept) > mostKept {
		over := len(r.kept) - mostKept
		if r.kept[over-1].id > r.sent {
			r.overflow = true
		}
		r.kept = slices.Delete(r.kept, 0, over)
	}
	if !r.buffered && !r.enabled {
		r.kept = nil
	}
}

// due makes ready what is to be told at a time; it returns when to look again, zero for never.
func (r *report) due(now time.Time) (messages [][]byte, next time.Time) {
	if len(r.pending) > 0 {
		at := r.first.Add(time.Duration(r.bufferMs) * time.Millisecond)
		if at.After(now) {
			next = at
		} else {
			r.flush(now)
		}
	}
	if !r.enabled {
		return nil, next
	}
	if !r.next.IsZero() {
		if !r.next.After(now) {
			r.all(onIntegrity, now)
			r.next = now.Add(time.Duration(r.everyMs) * time.Millisecond)
		}
		if next.IsZero() || r.next.Before(next) {
			next = r.next
		}
	}
	for i := range r.kept {
		if r.kept[i].id > r.sent {
			messages = append(messages, r.message(&r.kept[i]))
			r.sent = r.kept[i].id
		}
	}
	if !r.buffered {
		r.kept = nil
	}
	return messages, next
}

// message is an entry as a report.
func (r *report) message(k *kept) []byte {
	var list []wire.Result
	add := func(d wire.Data) { list = append(list, wire.Result{Data: d, Refused: -1}) }
	options := r.options
	if !r.buffered {
		options &^= optEntry | optOverflow
	}
	add(wire.Data{Kind: family.VisibleString, Text: r.id})
	add(wire.Data{Kind: family.BitString, Bits: options, Size: 10})
	if options&optSequence != 0 {
		add(wire.Data{Kind: family.Unsigned, Int: int64(r.number & 0xFFFF), Size: 16})
	}
	r.number++
	if options&optTime != 0 {
		add(wire.Data{Kind: family.EntryTime, Time: k.at})
	}
	if options&optDataSet != 0 {
		add(wire.Data{Kind: family.VisibleString, Text: r.domain.name + "/" + r.set.item})
	}
	if options&optOverflow != 0 {
		lost := wire.Data{Kind: family.Boolean}
		if r.overflow {
			lost.Int, r.overflow = 1, false
		}
		add(lost)
	}
	if options&optEntry != 0 {
		add(wire.Data{Kind: family.OctetString, Text: entryID(k.id)})
	}
	if options&optRevision != 0 {
		add(wire.Data{Kind: family.Unsigned, Int: int64(r.revision), Size: 32})
	}
	// The inclusion has a bit for each member, of which there may be more than 64.
	octets := make([]byte, (len(r.set.members)+7)/8)
	places := make([]int, 0, len(k.changes))
	for i := range k.changes {
		octets[i/8] |= 0x80 >> (i % 8)
		places = append(places, i)
	}
	slices.Sort(places)
	add(wire.Included(octets, len(r.set.members)))
	if options&optReference != 0 {
		for _, i := range places {
			n := r.set.names[i]
			add(wire.Data{Kind: family.VisibleString, Text: n.Domain + "/" + n.Item})
		}
	}
	for _, i := range places {
		add(k.changes[i].value)
		r.given = append(r.given, k.changes[i].marks...)
	}
	if options&optReason != 0 {
		for _, i := range places {
			add(wire.Data{Kind: family.BitString, Bits: k.changes[i].reason, Size: 6})
		}
	}
	return wire.ReportOf([]wire.Name{{Item: "RPT"}}, list)
}
