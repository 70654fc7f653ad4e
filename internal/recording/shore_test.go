package recording

import (
	"fmt"
	"time"

	"ferry/internal/core/capture"
	family "ferry/internal/core/family/iec61850"
	"ferry/internal/core/rehearsal"
	"ferry/internal/wire/iec61850"
	"ferry/internal/wire/isotcp"
)

// shore is a substation controller at the concentrator of the shore, in IEC 61850.
type shore struct {
	*actor
	conn   *rehearsal.Conn
	invoke uint32
	number int64
}

func init() { others = append(others, shoreScenes...) }

func (a *actor) shore() *shore {
	s := &shore{actor: a, conn: a.Dial(controller, "192.0.2.95:102")}
	s.conn.Talk(isotcp.AppendConnect(nil, 1, 1, isotcp.Size8192), isotcp.AppendConfirm(nil, 1, 1, isotcp.Size8192),
		a.think())
	wrap := func(b []byte) []byte { return isotcp.AppendData(nil, b, isotcp.Size8192) }
	s.conn.Talk(wrap(iec61850.Associate(iec61850.DefaultInitiation(), iec61850.Selectors{})),
		wrap(iec61850.Accept(iec61850.DefaultInitiation())), a.think())
	return s
}

func spoken(mms []byte) []byte { return isotcp.AppendData(nil, iec61850.Speak(mms), isotcp.Size8192) }

// reads reads attributes, and gets a result of each.
func (s *shore) reads(results ...iec61850.Result) {
	s.invoke++
	var names []iec61850.Name
	for i := range results {
		names = append(names, iec61850.Name{Domain: "LD0", Item: fmt.Sprintf("GGIO1$ST$Ind%d", i+1)})
	}
	s.conn.Talk(spoken(iec61850.Question(s.invoke, iec61850.Read,
		iec61850.ReadOf(names))), spoken(iec61850.Answer(s.invoke, iec61850.Read, iec61850.ReadAnswer(results))), s.think())
	s.Wait(time.Second)
}

// dataOf is data with such a quality.
func dataOf(on int64, quality family.Quality) iec61850.Result {
	return iec61850.Result{Refused: -1, Data: iec61850.Data{Kind: family.Structure,
		Parts: []iec61850.Data{{Kind: family.Boolean, Int: on},
			{Kind: family.BitString, Bits: uint64(quality), Size: 13}, {Kind: family.UTCTime}}}}
}

// tells sends a report with a number, and whether entries before it were lost.
func (s *shore) tells(result iec61850.Result, overflow int64) {
	text := func(t string) iec61850.Result {
		return iec61850.Result{Refused: -1, Data: iec61850.Data{Kind: family.VisibleString, Text: t}}
	}
	of := func(d iec61850.Data) iec61850.Result { return iec61850.Result{Refused: -1, Data: d} }
	list := []iec61850.Result{text("brcbStatus"),
		of(iec61850.Data{Kind: family.BitString, Bits: 1<<1 | 1<<4 | 1<<6, Size: 10}),
		of(iec61850.Data{Kind: family.Unsigned, Int: s.number, Size: 16}), text("LD0/LLN0$dsStatus"),
		of(iec61850.Data{Kind: family.Boolean, Int: overflow}), of(iec61850.Included([]byte{0x80}, 1)), result}
	s.number++
	s.conn.Say(capture.Answerer, spoken(iec61850.ReportOf([]iec61850.Name{{Item: "RPT"}}, list)))
	s.Wait(time.Second)
}

// shoreScenes are scenes of IEC 61850.
var shoreScenes = []scene{
	{"a concentrator that is read and reports", "", func(a *actor) {
		s := a.shore()
		for i := range 10 + a.way {
			s.reads(dataOf(int64(i%2), 0))
			s.tells(dataOf(int64(i%2), 0), 0)
		}
		s.conn.Close(capture.Asker)
	}},
	{"attributes that are refused", "refused", func(a *actor) {
		s := a.shore()
		for range 6 + a.way {
			s.reads(iec61850.Result{Refused: []int{family.AccessHardware, family.AccessDenied, family.AccessInvalidated}[a.way]})
		}
	}},
	{"an attribute that is refused among others", "refused", func(a *actor) {
		s := a.shore()
		for range 4 + a.way {
			s.reads(dataOf(1, 0), iec61850.Result{Refused: family.AccessDenied}, dataOf(0, 0))
		}
	}},
	{"values that are not good", "source-doubtful", func(a *actor) {
		s := a.shore()
		for range 5 + a.way {
			s.tells(dataOf(1, []family.Quality{2, 3, 2 | 1<<7}[a.way]), 0)
		}
	}},
	{"reports of which some are missing", "sequence-gap", func(a *actor) {
		s := a.shore()
		for i := range 12 {
			if i > 0 && i%(4+a.way) == 0 {
				s.number++
			}
			s.tells(dataOf(int64(i%2), 0), 0)
		}
	}},
	{"a buffer of reports that ran over", "queue-overrun", func(a *actor) {
		s := a.shore()
		for i := range 5 + a.way {
			lost := int64(0)
			if i == 2 {
				lost = 1
			}
			s.tells(dataOf(int64(i%2), 0), lost)
		}
	}},
	{"a server that leaves questions unanswered", "no-answer", func(a *actor) {
		s := a.shore()
		s.reads(dataOf(1, 0))
		for i := range 6 {
			s.conn.Say(capture.Asker,
				spoken(iec61850.Question(uint32(100+i), iec61850.Read,
					iec61850.ReadOf([]iec61850.Name{{Domain: "LD0", Item: "x"}}))))
			s.Wait(35 * time.Second)
			s.reads(dataOf(1, 0))
		}
	}},
}
