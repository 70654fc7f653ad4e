package recording

import (
	"cmp"
	"slices"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/judge"
)

// TalkView is what is known of one who asks a station.
type TalkView struct {
	Link     string `json:"link,omitempty"` // of the site, where it is Ferry that asks
	Asker    string `json:"asker"`
	Answerer string `json:"answerer"`
	At       string `json:"at"` // address and port, or line
	Station  int    `json:"station"`
	Protocol string `json:"protocol"`
	Asked    int    `json:"asked"`
	Answered int    `json:"answered"`
	Declined int    `json:"declined"`
	None     int    `json:"none"`
	Garbled  int    `json:"garbled"`
	// Again is how many were asked again because no answer came, MadeGood how many of
	// these were answered.
	Again    int     `json:"again,omitempty"`
	MadeGood int     `json:"madeGood,omitempty"`
	Octets   int64   `json:"octets"`
	MedianMs float64 `json:"medianMs"`
	P99Ms    float64 `json:"p99Ms"`
	MostMs   float64 `json:"mostMs"`
	// Latency counts answers by the time they took, doubling from below 1 ms.
	Latency  []int32       `json:"latency"`
	Requests []RequestView `json:"requests"`
	Beyond   int           `json:"beyond"` // questions of more kinds than are told apart
}

// RequestView is a question that is asked again and again.
type RequestView struct {
	Says     string  `json:"says"`
	Area     string  `json:"area"`
	Start    uint32  `json:"start"`
	Count    int     `json:"count"`
	Function int     `json:"function"`
	Write    bool    `json:"write,omitempty"`
	Asked    int     `json:"asked"`
	Answered int     `json:"answered"`
	EveryMs  float64 `json:"everyMs"`
}

// mostRequestViews is how many questions of one talk are shown.
const mostRequestViews = 200

// Talks is what is known of those who talk.
func (r *Reading) Talks() []TalkView {
	list := []TalkView{}
	for _, t := range r.judge.Sorted() {
		list = append(list, r.talk(t))
	}
	return list
}

func (r *Reading) talk(t *judge.Talk) TalkView {
	v := TalkView{Asker: asker(&t.Key), Answerer: r.judge.Name(t), At: where(&t.Key), Station: t.Key.Station,
		Protocol: t.Protocol, Asked: t.Asked, Answered: t.Answered, Declined: t.Declined, None: t.Unanswered,
		Garbled: t.Garbled + t.Broken, Again: t.Again, MadeGood: t.MadeGood, Octets: t.Octets,
		MedianMs: ms(t.Percentile(0.5)), P99Ms: ms(t.Percentile(0.99)),
		MostMs: ms(t.Longest), Latency: t.Doubling(), Requests: []RequestView{}, Beyond: t.Beyond}
	for _, q := range t.Requests {
		view := RequestView{Says: says(t.Protocol, &capture.Heard{Function: q.Function, Range: q.Range, Write: q.Write}),
			Area: q.Range.Area, Start: q.Range.Start, Count: q.Range.Count, Function: q.Function, Write: q.Write,
			Asked: q.Count, Answered: q.Answered}
		if q.Count > 1 {
			view.EveryMs = ms(q.Every())
		}
		v.Requests = append(v.Requests, view)
	}
	slices.SortFunc(v.Requests, func(a, b RequestView) int {
		return cmp.Or(cmp.Compare(a.Area, b.Area), cmp.Compare(a.Start, b.Start), cmp.Compare(a.Count, b.Count))
	})
	if len(v.Requests) > mostRequestViews {
		slices.SortStableFunc(v.Requests, func(a, b RequestView) int { return cmp.Compare(b.Asked, a.Asked) })
		v.Requests = v.Requests[:mostRequestViews]
	}
	return v
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1e3 }

func asker(k *judge.TalkKey) string {
	if !k.Asker.IsValid() {
		return "the asker"
	}
	return k.Asker.String()
}

func where(k *judge.TalkKey) string {
	if k.Line != "" {
		return k.Line
	}
	return k.Answerer.String()
}
