package recording

import (
	"bufio"
	"cmp"
	"encoding/binary"
	"io"
	"os"
	"slices"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/capture"
	"ferry/internal/core/exchange"
	"ferry/internal/core/judge"
)

// Row is one exchange as the index has it.
type Row struct {
	At      time.Time
	Latency time.Duration // negative for no answer
	Talk    int           // of Index.Talks
	// Conn is the number of its connection.
	Conn     int
	Function int
	Range    block.Range
	Write    bool
	Again    bool
	// Try counts from 1 how often the same was asked, First is the row of the first time, where
	// that is another.
	Try, First int
	Overtaken  bool
	Stray      bool // octets that belong to no exchange: Outcome says why
	Outcome    exchange.Outcome
	Code       int
	// AskedIn and AnsweredIn are the packets, 0 for none.
	AskedIn, AnsweredIn int64
	octets              int64 // where the octets stand
	request, answer     int   // how many there are
}

// Bad reports whether it is one to look at.
func (r *Row) Bad() bool {
	if r.Stray {
		return r.Outcome != capture.Plain && r.Outcome != capture.Sealed
	}
	return r.Overtaken || r.Outcome != exchange.Answered && r.Outcome != exchange.Sent && r.Outcome != exchange.Reported
}

// rowOctets is the size of a row in the index file: little-endian,
//
//	0  time in ns since 1970     8  latency in µs, 2³²-1 for none   12 talk
//	16 connection                20 function                        24 start of the units
//	28 how many                  32 area                            33 outcome
//	34 code, the lower half      36 flags                           38 the upper half of the code
//	40 packet of the question    48 of the answer                   56 where the octets stand
//	64 octets asked              68 answered                        72 row of the first try
//
// and at 37 which try it is.
const rowOctets = 76

const (
	rowWrites = 1 << iota
	rowAgain
	rowOvertaken
	rowStray
)

// Index is what is kept of a recording on disk, so that any part of it is found: a row
// for each exchange, and the octets.
type Index struct {
	// Talks are those who talk, in the order in which they were first heard.
	Talks []judge.TalkKey
	// Protocols are what each of them speaks.
	Protocols []string
	Rows      int
	Overview  Overview

	rows, octets *os.File
	rowsOut      *bufio.Writer
	octetsOut    *bufio.Writer
	at           int64
	talks        map[judge.TalkKey]int
	areas        []string
	outcomes     []exchange.Outcome
	tries        map[tryKey]tried
	err          error
	unordered    bool
	last         time.Time
}

// tryKey is what is asked for, as a row has it: who talks, the function and the units.
type tryKey [17]byte

// tried is how often it was asked of late, and where the first is.
type tried struct{ n, first int }

// mostTries bounds those that are remembered.
const mostTries = 10_000

// try counts in a row which try of its question it is.
func (x *Index) try(b []byte, row int) {
	of := tried{1, row}
	if b[36]&rowStray == 0 {
		var key tryKey
		copy(key[:], b[12:16])
		copy(key[4:], b[20:33])
		if last, known := x.tries[key]; known && b[36]&rowAgain != 0 {
			of = tried{last.n + 1, last.first}
		}
		if x.tries == nil || len(x.tries) >= mostTries {
			x.tries = map[tryKey]tried{}
		}
		x.tries[key] = of
	}
	b[37] = byte(min(of.n, 255))
	binary.LittleEndian.PutUint32(b[72:], uint32(of.first))
}

// mostIndexedTalks bounds those who are told apart; what is beyond goes to the last.
const mostIndexedTalks = 20_000

// NewIndex begins an index in two files, which it removes when it is closed.
func NewIndex(dir string) (*Index, error) {
	rows, err := os.CreateTemp(dir, "rows-*")
	if err != nil {
		return nil, err
	}
	octets, err := os.CreateTemp(dir, "octets-*")
	if err != nil {
		_, _ = rows.Close(), os.Remove(rows.Name())
		return nil, err
	}
	return &Index{rows: rows, octets: octets, rowsOut: bufio.NewWriterSize(rows, 1<<18),
		octetsOut: bufio.NewWriterSize(octets, 1<<18), talks: map[judge.TalkKey]int{}}, nil
}

// Close removes the files.
func (x *Index) Close() {
	for _, f := range []*os.File{x.rows, x.octets} {
		_, _ = f.Close(), os.Remove(f.Name()) // what cannot be removed is found at the next start
	}
}

// Packet implements capture.Listener.
func (x *Index) Packet(*capture.Packet) {}

// Opened implements capture.Listener.
func (x *Index) Opened(*capture.Conn) {}

// Done implements capture.Listener.
func (x *Index) Done(*capture.Conn) {}

// Heard implements capture.Listener.
func (x *Index) Heard(c *capture.Conn, h *capture.Heard) {
	if x.err != nil {
		return
	}
	at := h.Asked
	if at.IsZero() {
		at = h.Answered
	}
	if at.Before(x.last) {
		x.unordered = true
	}
	x.last = at
	var b [rowOctets]byte
	le := binary.LittleEndian
	le.PutUint64(b[0:], uint64(at.UnixNano()))
	latency := uint32(1<<32 - 1)
	if !h.Asked.IsZero() && !h.Answered.IsZero() {
		latency = uint32(min(max(h.Latency().Microseconds(), 0), 1<<32-2))
	}
	le.PutUint32(b[8:], latency)
	le.PutUint32(b[12:], uint32(x.talk(c, h)))
	le.PutUint32(b[16:], uint32(c.Number))
	le.PutUint32(b[20:], uint32(h.Function))
	le.PutUint32(b[24:], h.Range.Start)
	le.PutUint32(b[28:], uint32(h.Range.Count))
	b[32] = tabled(&x.areas, h.Range.Area)
	b[33] = tabled(&x.outcomes, exchange.Outcome(cmp.Or(h.Stray, string(h.Outcome))))
	le.PutUint16(b[34:], uint16(h.Code))
	le.PutUint16(b[38:], uint16(h.Code>>16))
	flag := func(bit byte, set bool) {
		if set {
			b[36] |= bit
		}
	}
	flag(rowWrites, h.Write)
	flag(rowAgain, h.Again)
	flag(rowOvertaken, overtaken(h))
	flag(rowStray, h.Stray != "")
	x.try(b[:], x.Rows)
	le.PutUint64(b[40:], uint64(h.AskedIn))
	le.PutUint64(b[48:], uint64(h.AnsweredIn))
	le.PutUint64(b[56:], uint64(x.at))
	le.PutUint32(b[64:], uint32(len(h.Request)))
	le.PutUint32(b[68:], uint32(len(h.Answer)))
	for _, part := range [][]byte{h.Request, h.Answer} {
		n, err := x.octetsOut.Write(part)
		x.at += int64(n)
		x.err = cmp.Or(x.err, err)
	}
	_, err := x.rowsOut.Write(b[:])
	x.err = cmp.Or(x.err, err)
	x.Rows++
	x.Overview.add(at, bad(h))
}

func bad(h *capture.Heard) bool {
	r := Row{Stray: h.Stray != "", Outcome: exchange.Outcome(cmp.Or(h.Stray, string(h.Outcome))), Overtaken: overtaken(h)}
	return r.Bad()
}

// overtaken reports whether the next was asked because no answer came.
func overtaken(h *capture.Heard) bool { return h.Overtaken && h.GaveUp >= judge.GaveUp }

// tabled is the place of a word in a table of at most 256.
func tabled[T comparable](table *[]T, word T) byte {
	if i := slices.Index(*table, word); i >= 0 {
		return byte(i)
	}
	if len(*table) == 256 {
		return 255
	}
	*table = append(*table, word)
	return byte(len(*table) - 1)
}

func (x *Index) talk(c *capture.Conn, h *capture.Heard) int {
	key := judge.TalkKey{Asker: c.Ends[capture.Asker].Addr(), Answerer: c.Ends[capture.Answerer], Station: h.Station,
		Line: c.Name}
	if i, ok := x.talks[key]; ok {
		return i
	}
	if len(x.Talks) >= mostIndexedTalks {
		return mostIndexedTalks - 1
	}
	x.Talks = append(x.Talks, key)
	x.Protocols = append(x.Protocols, c.Speech.Protocol)
	x.talks[key] = len(x.Talks) - 1
	return len(x.Talks) - 1
}

// mostSorted bounds what is put into the order of time: beyond it an exchange without an
// answer stands where it was known that none comes.
const mostSorted = 2 << 20

// Settle writes what is left, and puts the rows in the order of time.
func (x *Index) Settle() error {
	for _, w := range []*bufio.Writer{x.rowsOut, x.octetsOut} {
		x.err = cmp.Or(x.err, w.Flush())
	}
	if x.err != nil || !x.unordered || x.Rows > mostSorted {
		return x.err
	}
	all := make([]byte, x.Rows*rowOctets)
	if _, err := x.rows.ReadAt(all, 0); err != nil {
		return err
	}
	order := make([]int32, x.Rows)
	for i := range order {
		order[i] = int32(i)
	}
	at := func(i int32) int64 { return int64(binary.LittleEndian.Uint64(all[int(i)*rowOctets:])) }
	slices.SortStableFunc(order, func(a, b int32) int { return cmp.Compare(at(a), at(b)) })
	if _, err := x.rows.Seek(0, io.SeekStart); err != nil {
		return err
	}
	w := bufio.NewWriterSize(x.rows, 1<<18)
	x.tries = nil
	for place, i := range order {
		x.try(all[int(i)*rowOctets:int(i+1)*rowOctets], place) // in the order of time
		if _, err := w.Write(all[int(i)*rowOctets : int(i+1)*rowOctets]); err != nil {
			return err
		}
	}
	return w.Flush()
}

// each reads rows from one on, until f says that it is enough.
func (x *Index) each(from int, f func(i int, r *Row) bool) error {
	const block = 4096
	buf := make([]byte, block*rowOctets)
	for i := from; i < x.Rows; i += block {
		n := min(block, x.Rows-i)
		if _, err := x.rows.ReadAt(buf[:n*rowOctets], int64(i)*rowOctets); err != nil {
			return err
		}
		for k := range n {
			r := x.row(buf[k*rowOctets:])
			if !f(i+k, &r) {
				return nil
			}
		}
	}
	return nil
}

func (x *Index) row(b []byte) Row {
	le := binary.LittleEndian
	r := Row{At: time.Unix(0, int64(le.Uint64(b))).UTC(), Latency: -1, Talk: int(le.Uint32(b[12:])),
		Conn: int(le.Uint32(b[16:])), Function: int(le.Uint32(b[20:])),
		Code: int(le.Uint16(b[34:])) | int(le.Uint16(b[38:]))<<16, Range: block.Range{Start: le.Uint32(b[24:]),
			Count: int(le.Uint32(b[28:]))}, Write: b[36]&rowWrites != 0,
		Again: b[36]&rowAgain != 0,
		Try:   int(b[37]), First: int(le.Uint32(b[72:])),
		Stray:   b[36]&rowStray != 0,
		AskedIn: int64(le.Uint64(b[40:])), AnsweredIn: int64(le.Uint64(b[48:])), octets: int64(le.Uint64(b[56:])),
		request: int(le.Uint32(b[64:])), answer: int(le.Uint32(b[68:])), Overtaken: b[36]&rowOvertaken != 0}
	if us := le.Uint32(b[8:]); us != 1<<32-1 {
		r.Latency = time.Duration(us) * time.Microsecond
	}
	if i := int(b[32]); i < len(x.areas) {
		r.Range.Area = x.areas[i]
	}
	if i := int(b[33]); i < len(x.outcomes) {
		r.Outcome = x.outcomes[i]
	}
	return r
}

// Octets reads those of a row.
func (x *Index) Octets(r *Row) (request, answer []byte, err error) {
	b := make([]byte, r.request+r.answer)
	if _, err := x.octets.ReadAt(b, r.octets); err != nil {
		return nil, nil, err
	}
	return b[:r.request:r.request], b[r.request:], nil
}

// Overview is how much was said when, in steps that are as fine as fits.
type Overview struct {
	Begins time.Time
	Step   time.Duration
	// All and Bad count the exchanges of each step.
	All, Bad []int32
}

// overviewSteps is how many steps there are at most.
const overviewSteps = 1024

func (o *Overview) add(at time.Time, bad bool) {
	if o.Step == 0 {
		o.Begins, o.Step = at, 10*time.Millisecond
	}
	since := at.Sub(o.Begins)
	if since < 0 {
		since = 0
	}
	for since/o.Step >= overviewSteps {
		o.halve()
	}
	i := int(since / o.Step)
	for len(o.All) <= i {
		o.All, o.Bad = append(o.All, 0), append(o.Bad, 0)
	}
	o.All[i]++
	if bad {
		o.Bad[i]++
	}
}

// halve makes two steps one.
func (o *Overview) halve() {
	o.Step *= 2
	for _, list := range []*[]int32{&o.All, &o.Bad} {
		for i := range *list {
			if i%2 == 0 {
				(*list)[i/2] = (*list)[i]
			} else {
				(*list)[i/2] += (*list)[i]
			}
		}
		*list = (*list)[:(len(*list)+1)/2]
	}
}
