package judge

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/capture"
	"ferry/internal/core/exchange"
	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
)

// TalkKey names who asks a station of whom.
type TalkKey struct {
	Asker    netip.Addr
	Answerer netip.AddrPort
	Station  int // -1 where there is none
	// Line is the serial line on which it is heard; empty over a network. Who asks and
	// who answers have no addresses there.
	Line string
}

// Talk is what is kept of one who asks a station.
type Talk struct {
	Key      TalkKey
	Protocol string
	First    time.Time
	// Asked counts the questions, and what came of them.
	Asked, Answered, Declined, Unanswered, Garbled, Broken int
	// unasked counts those answered that were told without a question.
	unasked int
	// Greeted counts those answers that only begin a session.
	Greeted int
	// Again counts those that were asked again at once for want of an answer, MadeGood
	// those of them that were answered.
	Again, MadeGood int
	Octets          int64
	// Latency counts answers by the time they took, in steps of a quarter of an octave
	// from 1 µs.
	Latency [latencySteps]int32
	Longest time.Duration

	// Requests are what it was asked for, by the units; Beyond counts those of more
	// than are told apart.
	Requests map[RequestKey]*Request
	Beyond   int

	end *end
	// functions are what it was asked for, by the family's number.
	functions []functionTalk
	none      proofs // no answer
	late      proofs
	lateBy    time.Duration
	mismatch  proofs
	insecure  proofs // TLS did not come about
	unfit     proofs // a value is of another type than the plan says
	other     proofs // another station answers
	twice     proofs
	check     proofs
	noise     proofs
	torn      proofs
	format    proofs
	echo      proofs
	collision proofs
	parted    proofs
	close     proofs
	over      proofs
	toAll     proofs
	odd       proofs
	numberless,
	pieces proofs
	singly   proofs
	small    proofs
	declines map[int]*proofs
	refused  map[int][]block.Range // by error code
	taken    map[string]*runs
	since    int             // answers since the last refusal
	longest  map[string]int  // of what was given at once, by area
	firsts   []time.Duration // of the first answers over connections, as they came
	slowly   proofs
	queued   proofs        // questions over a connection that is not served yet
	gave     time.Duration // the shortest time after which the next was asked
}

// Request is one question that is asked again and again.
type Request struct {
	Range       block.Range
	Function    int
	Write       bool
	Count       int
	First, Last time.Time
	FirstIn     int64 // the packet
	Answered    int
	lately      [9]time.Duration // from one to the next, the last times
}

// Every is how often it is asked, lately: without the times in which who asks was away. It is 0 for what was asked
// once.
func (r *Request) Every() time.Duration {
	n := min(r.Count-1, len(r.lately))
	if n < 1 {
		return 0
	}
	list := slices.Sorted(slices.Values(r.lately[:n]))
	usual, sum, count := list[n/2], time.Duration(0), 0
	for _, each := range list {
		if each <= 3*usual {
			sum += each
			count++
		}
	}
	return sum / time.Duration(count)
}

// RequestKey tells the questions of a talk apart: what is read and what is written to the
// same units are two.
type RequestKey struct {
	Range block.Range
	Write bool
}

// mostRequests bounds the questions that are told apart in one talk.
const mostRequests = 4096

// request counts a question.
func (t *Talk) request(h *capture.Heard) {
	key := RequestKey{h.Range, h.Write}
	r := t.Requests[key]
	if r == nil {
		if len(t.Requests) >= mostRequests {
			t.Beyond++
			return
		}
		if t.Requests == nil {
			t.Requests = map[RequestKey]*Request{}
		}
		r = &Request{Range: h.Range, Function: h.Function, Write: h.Write, First: h.Asked, FirstIn: h.AskedIn}
		t.Requests[key] = r
	}
	if r.Count > 0 {
		r.lately[(r.Count-1)%len(r.lately)] = h.Asked.Sub(r.Last)
	}
	r.Count++
	r.Last = h.Asked
	if h.Outcome == exchange.Answered {
		r.Answered++
	}
}

// functionTalk counts what came of one function.
type functionTalk struct {
	function, asked, answered, unanswered int
	ranged                                bool // it is about units of an area
}

// latencySteps bounds the steps of the distribution: 4 an octave from 1 µs to over an
// hour.
const latencySteps = 4 * 32

// hear takes in one exchange.
func (t *Talk) hear(h *capture.Heard) {
	f := t.function(h.Function)
	if h.Late { // it was counted as not answered
		t.Asked--
		t.Unanswered--
		t.none.n--
		f.asked--
		f.unanswered--
	}
	t.Asked++
	t.Octets += int64(len(h.Request) + len(h.Answer))
	f.asked++
	if t.Answered+t.Declined == 0 && (h.Outcome == exchange.Answered || h.Outcome == exchange.Declined) {
		t.end.stations[t.Key.Station] = true
	}
	if !h.Answered.IsZero() {
		f.answered++
		latency := h.Latency()
		t.Latency[stepOf(latency)]++
		t.Longest = max(t.Longest, latency)
	}
	if h.Close {
		t.prove(&t.close, h, t.words)
	}
	if h.Range.Count > 0 {
		f.ranged = true
		t.request(h)
	}
	if h.Overtaken && h.GaveUp >= GaveUp {
		t.prove(&t.late, h, func(h *capture.Heard) string {
			return fmt.Sprintf("%s is answered after %s, the next was asked after %s", t.words(h), long(h.Latency()),
				long(h.GaveUp))
		})
		t.lateBy = max(t.lateBy, h.Latency())
		if t.gave == 0 || h.GaveUp < t.gave {
			t.gave = h.GaveUp
		}
	}
	if h.OverLimit {
		t.prove(&t.over, h, t.words)
	}
	if h.ToAll && !h.Write {
		t.prove(&t.toAll, h, t.words)
	}
	if h.Manner != 0 {
		t.manner(h)
	}
	if h.Again {
		t.Again++
		if h.Outcome == exchange.Answered {
			t.MadeGood++
		}
	}
	switch h.Outcome {
	case exchange.Answered, exchange.Sent:
		t.Answered++
		if h.Greets {
			t.Greeted++
		}
		if h.Range.Count > 0 {
			t.accept(h)
		} else {
			t.since++
		}
		switch h.Cause {
		case exchange.Echo:
			t.prove(&t.echo, h, t.words)
		case exchange.Noise:
			t.prove(&t.collision, h, t.broken)
		case exchange.InPieces:
			t.prove(&t.parted, h, t.words)
		}
	case exchange.Reported:
		if t.Answered++; h.Asked.IsZero() {
			t.unasked++
		}
	case exchange.Declined:
		if t.Declined++; !h.Optional {
			t.decline(h)
		}
	case exchange.NoAnswer:
		t.Unanswered++
		f.unanswered++
		t.prove(&t.none, h, t.words)
	case exchange.Garbled:
		t.Garbled++
		t.prove(t.garbled(h.Cause), h, t.broken)
	default:
		t.Broken++ // the connection ended: the way is judged for it
	}
	for _, r := range h.Refusals {
		if ps := t.declinesOf(r.Code); ps != nil {
			t.prove(ps, h, func(h *capture.Heard) string { return t.words(h) + ", " + r.Name })
		}
	}
}

// garbled finds where an answer that is none is counted.
func (t *Talk) garbled(cause exchange.Cause) *proofs {
	switch cause {
	case exchange.OtherStation:
		return &t.other
	case exchange.TwoStations:
		return &t.twice
	case exchange.Check:
		return &t.check
	case exchange.CutShort:
		return &t.torn
	case exchange.Format:
		return &t.format
	case exchange.Noise:
		return &t.noise
	case exchange.Insecure:
		return &t.insecure
	}
	return &t.mismatch
}

// GaveUp is the least time after which an asker that asks the next gave up: who asks
// several at a time does so sooner.
const GaveUp = 100 * time.Millisecond

func (t *Talk) function(number int) *functionTalk {
	for i := range t.functions {
		if t.functions[i].function == number {
			return &t.functions[i]
		}
	}
	if len(t.functions) >= 256 {
		return &t.functions[255]
	}
	t.functions = append(t.functions, functionTalk{function: number})
	return &t.functions[len(t.functions)-1]
}

func (t *Talk) manner(h *capture.Heard) {
	if h.Manner&exchange.OddStation != 0 {
		t.odd.add(proofOf(h, ""))
	}
	if h.Manner&exchange.NoTransaction != 0 {
		t.numberless.add(proofOf(h, ""))
	}
	if h.Manner&exchange.Pieces != 0 {
		t.pieces.add(proofOf(h, ""))
	}
	if h.Manner&exchange.Singly != 0 {
		t.singly.add(proofOf(h, "several were asked at once"))
	}
	if h.Manner&exchange.Small != 0 {
		t.small.add(proofOf(h, ""))
	}
}

// prove keeps a proof, whose words are only found where they are kept.
func (t *Talk) prove(ps *proofs, h *capture.Heard, words func(*capture.Heard) string) {
	if ps.full() {
		ps.add(proofOf(h, ""))
		return
	}
	ps.add(proofOf(h, words(h)))
}

func (t *Talk) broken(h *capture.Heard) string { return t.words(h) + ": " + h.Broken }

// words say what was asked for.
func (t *Talk) words(h *capture.Heard) string {
	for _, s := range capture.Speeches() {
		if s.Protocol == t.Protocol && s.Words != nil {
			return s.Words(h)
		}
	}
	return fmt.Sprintf("function %d", h.Function)
}

// talking judges what was said between two.
func (j *Judge) talking(t *Talk) (found []finding.Finding) {
	def, _ := protocol.Named(t.Protocol)
	name := j.of(t).Name
	station := def.StationWord()
	add := func(code string, severity finding.Severity, sure float64, ps *proofs, title, sentence, remedy, other string) {
		if ps.n == 0 {
			return
		}
		f := finding.Finding{Code: code, Severity: severity, Sure: sure, Count: ps.n,
			Subject: j.of(t), Title: title, Sentence: sentence, Remedy: remedy,
			Else: other}
		ps.into(&f)
		found = append(found, f)
	}
	// Who waits for an answer that comes too late gets none.
	if t.none.n > 0 && t.late.n*4 < t.none.n {
		found = append(found, j.unanswered(t, def, name)...)
	}
	add("late-answer", finding.Fault, 0.9, &t.late, name+" answers too late",
		fmt.Sprintf("%d of %d answers came after the asker had gone on to the next question; they took up to %s, and it "+
			"waits %s. Where nothing but the order tells whose answer it is, it is taken for the next one's.", t.late.n,
			t.Asked, long(t.lateBy), long(t.gave)),
		fmt.Sprintf("Have the asking end wait at least %s, or ask less often.", long(t.lateBy*3/2)),
		"An asker that asks ahead, one question at each of its paces, whatever has been answered.")
	add("type-differs", finding.Fault, 1, &t.unfit, name+" has values of another type",
		fmt.Sprintf("In %d answers what stands in a place is of another type than the map says.", t.unfit.n),
		"Set the type of the point to that of the device: what is read as another is another value.", "")
	add("tls-failed", finding.Fault, 0.9, &t.insecure, "TLS with "+name+" does not come about",
		fmt.Sprintf("%d of %d times it was broken off before anything was said under it.", t.insecure.n, t.Asked),
		"Compare whom each end trusts, the name and the dates of the certificate, both clocks, and whether the other end wants "+
			"a certificate of the asking one.", "One of the two allows no version of TLS that the other has.")
	add("answer-mismatch", finding.Fault, 0.95, &t.mismatch, name+" sends what is no answer to the question",
		fmt.Sprintf("%d of %d answers do not go with what was asked.", t.mismatch.n, t.Asked),
		"Look whether two clients' answers are mixed up by a box on the way, and whether the device speaks this protocol.",
		"")
	add("answer-mismatch", finding.Fault, 0.9, &t.other, "Another "+station+" answers for "+name,
		fmt.Sprintf("%d of %d answers name another %s than was asked.", t.other.n, t.Asked, station),
		"Compare the number set in the device, and in the gateway before it, with the plan.", "")
	found = append(found, j.onLine(t, name, station)...)
	add("over-limit-request", finding.Fault, 1, &t.over, fmt.Sprintf("%s is asked for more than is allowed", name),
		fmt.Sprintf("%d questions ask for none, or for more at once than the protocol allows.", t.over.n),
		"Have the asking end split them.", "")
	add("broadcast-read", finding.Fault, 1, &t.toAll, "A question to everybody",
		fmt.Sprintf("%d times every %s was asked at once; none may answer.", t.toAll.n, station),
		fmt.Sprintf("Ask each by its %s.", station), "")
	for manner, ps := range map[exchange.Manner]*proofs{exchange.OddStation: &t.odd, exchange.Singly: &t.singly,
		exchange.Small: &t.small, exchange.NoTransaction: &t.numberless, exchange.Pieces: &t.pieces} {
		if ps.n*4 < t.Answered && manner == exchange.Pieces {
			continue // now and then a message is parted on its way
		}
		for _, told := range exchange.Manners {
			if told.Is == manner {
				add(told.Code, finding.Note, 1, ps, name+" "+told.Does,
					fmt.Sprintf("%d of %d answers came so. That is its way, and no fault.", ps.n, t.Asked), told.Copes, "")
				if ps.n > 0 {
					j.fixManner(&found[len(found)-1], told.Code)
				}
			}
		}
	}
	if f, ok := j.slowFirst(t, name); ok {
		found = append(found, f)
	}
	return append(found, j.declined(t, def, name)...)
}

// unanswered judges questions without an answer.
func (j *Judge) unanswered(t *Talk, def *protocol.Def, name string) (found []finding.Finding) {
	rest := t.none
	answered := t.Answered + t.Declined + t.Garbled - t.Greeted - t.unasked
	if q := t.queued.n; q > 0 && q <= rest.n {
		f := finding.Finding{Code: "connection-limit", Severity: finding.Note, Sure: 0.8, Count: q, Subject: j.of(t),
			Title: name + " serves one connection at a time",
			Sentence: fmt.Sprintf("%d questions over a connection that it took got no answer, while it answered over another.",
				q),
			Remedy: "Have all that ask it share one connection, or close the other: in Ferry all links to it then take turns.",
			Else:   "It answers certain addresses alone."}
		t.queued.into(&f)
		j.fix(&f, t, &finding.Bears{OneConnection: true})
		found = append(found, f)
		rest.n -= q
	}
	for _, f := range t.functions {
		if f.unanswered < 2 && (f.ranged || f.unanswered == 0) || f.answered > 0 || answered == 0 {
			continue
		}
		// It answers what else it is asked, and never this: it does not know it.
		h := capture.Heard{Function: f.function}
		found = append(found, finding.Finding{Code: "silent-function", Severity: finding.Note, Sure: 0.9,
			Count: f.unanswered, Subject: j.of(t),
			Title: name + " is silent on what it does not know",
			Sentence: fmt.Sprintf("It answers other questions and none of %d times %q.", f.unanswered,
				t.words(&h)),
			Remedy: "Leave this question out: waiting for its answer costs the time limit each time."})
		rest.n -= f.unanswered
	}
	if rest.n <= 0 || answered == 0 && t.Key.Line == "" && t.end.quiet > fewSilent {
		return found // many who are silent behind one address are one finding
	}
	f := finding.Finding{Code: "no-answer", Severity: finding.Fault, Sure: 0.9, Count: rest.n,
		Subject: j.of(t), Title: name + " does not answer"}
	rest.into(&f)
	switch {
	case answered == 0 && t.othersAnswer():
		f.Sentence = fmt.Sprintf("None of %d questions was answered, and others behind the same address do answer.",
			t.Asked)
		f.Remedy = fmt.Sprintf("Compare the %s number with the one set in the device; then look at its power, and at its "+
			"wires to the gateway.", def.StationWord())
	case answered == 0:
		f.Sentence = fmt.Sprintf("It takes the connection, and answers none of %d questions.", t.Asked)
		f.Remedy = fmt.Sprintf("Compare the %s number first: a device is silent for numbers that are not its own. Then "+
			"look whether the port speaks this protocol.", def.StationWord())
		f.Else = "The device lets this asker connect and does not let it ask."
	default:
		f.Severity = finding.Doubt
		if rest.n*10 > t.Asked {
			f.Severity = finding.Fault
		}
		f.Title = name + " leaves questions unanswered"
		f.Sentence = fmt.Sprintf("%d of %d questions got no answer (%.1f %%).", rest.n, t.Asked,
			100*float64(rest.n)/float64(t.Asked))
		if t.MadeGood > 0 {
			f.Sentence += fmt.Sprintf(" %d were made good: the same was asked again at once, and answered.",
				min(t.MadeGood, rest.n))
		}
		f.Remedy = "Look at its load, and on a serial line behind it for noise and termination. Ask it less often and " +
			"see whether that helps."
	}
	return append(found, f)
}

// othersAnswer reports whether others behind the same address answer.
func (t *Talk) othersAnswer() bool {
	return len(t.end.stations) > 1 || len(t.end.stations) == 1 && !t.end.stations[t.Key.Station]
}
