package trend

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ferry/internal/core/value"
)

// every makes samples of a function of the seconds, one each so many milliseconds.
func every(ms int, seconds float64, f func(s float64) float64) (list []Sample) {
	for at := 0.0; at < seconds*1000; at += float64(ms) {
		list = append(list, Sample{AtUs: int64(at * 1000), V: f(at / 1000), Quality: value.Good})
	}
	return list
}

func round(v, to float64) float64 { return math.Round(v/to) * to }

// TestPack: what was packed comes back octet for octet, and what does not change takes little.
func TestPack(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	var list []Sample
	at, v, reason := int64(1_795_718_302_000_000), 7.5, ""
	for range 5000 {
		at += r.Int64N(200_000)
		s := Sample{AtUs: at, Quality: value.Good}
		switch r.IntN(20) {
		case 0:
			v = r.NormFloat64() * 1e6
		case 1:
			s.Quality, reason = value.Bad, []string{"no answer", "Ferry was not running"}[r.IntN(2)]
		case 2:
			s.Quality, reason = value.Doubtful, "old"
		case 3:
			reason = ""
			v = round(v, 0.1)
		}
		if s.Reason = reason; s.Quality != value.Bad {
			s.V = v
		}
		list = append(list, s)
	}
	packed := Pack(list)
	back, err := Unpack(packed, nil)
	if err != nil || !slices.Equal(back, list) {
		t.Fatalf("%d came back of %d: %v", len(back), len(list), err)
	}
	still := Pack(every(100, 600, func(float64) float64 { return 12.7 }))
	if per := float64(len(still)) / 6000; per > 6 {
		t.Errorf("a value that stands takes %.1f octets a sample", per)
	}
	for n := range packed[:200] {
		if short, err := Unpack(packed[:n], nil); err == nil && !slices.Equal(short, list[:len(short)]) {
			t.Errorf("the first %d octets are read as something else", n)
		}
	}
}

func FuzzUnpack(f *testing.F) {
	f.Add(Pack(every(100, 1, math.Sin)))
	f.Add(Pack([]Sample{{AtUs: 5, Quality: value.Bad, Reason: "no answer"}}))
	f.Fuzz(func(t *testing.T, packed []byte) {
		list, err := Unpack(packed, nil)
		if err != nil {
			return
		}
		again, err := Unpack(Pack(list), nil)
		if err != nil || fmt.Sprint(again) != fmt.Sprint(list) {
			t.Errorf("%v became %v: %v", list, again, err)
		}
	})
}

// TestThin: a chart of what is left has in each column the extremes, the ends and the gaps of
// all samples.
func TestThin(t *testing.T) {
	all := every(10, 600, func(s float64) float64 { return math.Sin(s/7) + 5*float64(int(s)%97/96) })
	all[30_000] = Sample{AtUs: all[30_000].AtUs, Quality: value.Bad, Reason: "no answer"}
	const columns, to = 200, int64(600e6)
	thin, same := Thin(all, 0, to, columns)
	if same || len(thin) > 4*columns+8 {
		t.Fatalf("%d of %d samples are left (all: %v)", len(thin), len(all), same)
	}
	type column struct{ first, least, most, last float64 }
	drawn := func(list []Sample) (columns [columns]column, gaps int) {
		seen := [len(columns)]bool{}
		for i := range list {
			if list[i].Gap() {
				gaps++
				continue
			}
			n := int(float64(list[i].AtUs) / float64(to) * float64(len(columns)))
			c, v := &columns[n], list[i].V
			if !seen[n] {
				*c, seen[n] = column{v, v, v, v}, true
			}
			c.least, c.most, c.last = min(c.least, v), max(c.most, v), v
		}
		return columns, gaps
	}
	want, wantGaps := drawn(all)
	got, gotGaps := drawn(thin)
	if want != got || wantGaps != gotGaps {
		t.Error("the chart of fewer samples is another")
	}
	if few, same := Thin(all[:500], 0, 5e6, columns); !same || len(few) != 500 {
		t.Errorf("of 500 samples %d are left", len(few))
	}
}

// TestSum: values count for as long as they stood, and gaps not at all.
func TestSum(t *testing.T) {
	list := []Sample{{AtUs: -5e6, V: 100, Quality: value.Good}, {AtUs: 1e6, V: 2, Quality: value.Good},
		{AtUs: 2e6, V: 4, Quality: value.Doubtful, Reason: "old"}, {AtUs: 4e6, Quality: value.Bad, Reason: "no answer"},
		{AtUs: 6e6, V: 4, Quality: value.Good}, {AtUs: 7e6, Quality: value.Bad, Reason: "the mode was switched"}}
	got := Sum(list, 0, 10e6)
	want := Summary{Samples: 3, Doubtful: 1, Min: 2, MinAtUs: 1e6, Max: 100, MaxAtUs: 0, Mean: 22.8, Last: 4, Changes: 2,
		IntervalMs: 1000, LongestMs: 1000, CoveredMs: 5000, GapsMs: 5000}
	if math.Abs(got.Deviation-38.61) > 0.01 {
		t.Errorf("the deviation is %g", got.Deviation)
	}
	if math.Abs(got.Mean-want.Mean) < 1e-9 {
		want.Mean = got.Mean
	}
	if want.Deviation = got.Deviation; got != want {
		t.Errorf("got  %+v\nwant %+v", got, want)
	}
	gaps := Gaps(list, 0, 10e6)
	if len(gaps) != 2 || gaps[0] != (Missing{4e6, 6e6, "no answer"}) ||
		gaps[1] != (Missing{7e6, 10e6, "the mode was switched"}) {
		t.Errorf("gaps %+v", gaps)
	}
	if none := Sum(nil, 0, 10e6); none != (Summary{}) {
		t.Errorf("of nothing %+v", none)
	}
}

// TestJudge: what the pace and the device make of a signal is told from what the plant does.
func TestJudge(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	slow := func(s float64) float64 { return 10 + 3*math.Sin(s/20) }
	for _, c := range []struct {
		name string
		list []Sample
		pace int
		want string
	}{
		{"a slow signal read often", every(100, 120, slow), 100, ""},
		{"one that stands", every(100, 60, func(float64) float64 { return 7.2 }), 100, ""},
		{"read too seldom for its ramps", every(2000, 240, func(s float64) float64 { return 10 + 3*math.Sin(s/4) }), 2000,
			"steps-from-pace"},
		{"a swing of 3 s read every 2 s", every(2000, 240, func(s float64) float64 { return math.Sin(s * 2.1) }), 2000,
			"swings-between-reads"},
		{"renewed by the device once a second", every(100, 120, func(s float64) float64 { return slow(math.Floor(s)) }), 100,
			"plateaus-from-device"},
		{"in steps of a half", every(1000, 400, func(s float64) float64 { return round(slow(s), 0.5) }), 1000,
			"steps-of-resolution"},
		{"a switch", every(1000, 400, func(s float64) float64 { return float64(int(s/5) % 2) }), 1000, ""},
		{"read late every tenth time", slices.DeleteFunc(every(100, 120, slow),
			func(s Sample) bool { return s.AtUs/100_000%10 == 3 }), 100, "pace-not-kept"},
		{"reported when it moves", every(700, 120, func(float64) float64 { return round(r.Float64(), 0.01) }), 0, ""},
		{"too few", every(1000, 20, slow), 1000, ""},
	} {
		got := []string{}
		for _, s := range Judge(c.list, c.pace) {
			if got = append(got, s.Code); s.Sentence == "" || s.Do == "" {
				t.Errorf("%s: %s says nothing", c.name, s.Code)
			}
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s: %q, not %q", c.name, got, c.want)
		}
	}
}

// TestDelay: the time from source to far shore is found, within what the reads allow.
func TestDelay(t *testing.T) {
	walk := func(s float64) float64 { return round(10+3*math.Sin(s/20), 0.01) }
	source := every(200, 300, walk)
	late := func(ms float64, at int) []Sample {
		return every(at, 300, func(s float64) float64 { return walk(math.Floor((s-ms/1000)*5) / 5) })
	}
	for _, c := range []struct {
		name    string
		far     []Sample
		matched float64 // of 100
		ms, off float64
	}{
		{"350 ms, read often", late(350, 50), 98, 350, 60},
		{"350 ms, read once a second", late(350, 1000), 98, 850, 510},
		{"at once", late(0, 50), 98, 0, 60},
		{"another scale", every(50, 300, func(s float64) float64 { return 10 * walk(s) }), 0, 0, 0},
	} {
		lag := Delay(source, c.far, 0.005, 60e6)
		if got := 100 * float64(lag.Matched) / float64(lag.Moves); got < c.matched || c.matched == 0 && got > 5 {
			t.Errorf("%s: %d of %d moves are matched", c.name, lag.Matched, lag.Moves)
		}
		if c.matched > 0 && math.Abs(lag.MedianMs-c.ms) > c.off {
			t.Errorf("%s: %+v", c.name, lag)
		}
	}
}

func BenchmarkHour(b *testing.B) {
	all := every(100, 3600, func(s float64) float64 { return round(math.Sin(s/7), 0.001) })
	packed := Pack(all)
	b.Run("unpack and thin", func(b *testing.B) {
		b.ReportAllocs()
		b.SetBytes(int64(len(packed)))
		for b.Loop() {
			list, _ := Unpack(packed, nil)
			Thin(list, 0, 3600e6, 1200)
		}
	})
	b.Run("copy", func(b *testing.B) {
		b.ReportAllocs()
		for b.Loop() {
			_ = slices.Clone(all)
		}
	})
}
