package crossing

import (
	"time"

	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// tellQuality adds what the companion is to be told, if it does not have it.
func (f *Flow) tellQuality(acts []Act, good bool) []Act {
	if f.quality == nil {
		return acts
	}
	v := value.OfBool(good)
	if f.quality.Type != value.TypeBool {
		v = asNumber(v)
	}
	if f.told == v {
		return acts
	}
	return append(acts, Act{Point: f.quality.ID, Value: v, Quality: true})
}

// tellWhy adds that the target is told that the value it has is good no more, if it is
// to be told and has not been.
func (f *Flow) tellWhy(acts []Act, worst *Reading) []Act {
	quality := worst.Quality
	if quality == "" || quality == value.NotRead {
		quality = value.Bad
	}
	if f.x.Tells == site.TellsValue || f.last.IsNone() || f.standIn || f.toldIs == quality {
		return acts
	}
	return append(acts, f.noting(Act{Point: f.to.ID, Value: f.last, From: f.seen}, worst))
}

// noting adds the quality of a source to what is written, if that is told.
func (f *Flow) noting(a Act, source *Reading) Act {
	if f.x.Tells == site.TellsValue {
		return a
	}
	if a.Is, a.Reason = source.Quality, source.Reason; a.Is == "" || a.Is == value.NotRead {
		a.Is = value.Bad
	}
	return a
}

// mostBeats is where the count of a heartbeat begins anew: it fits in a signed octet
// and in a byte of BCD.
const mostBeats = 99

// beat is Look for a heartbeat. It is counted on from what stands in the target, so
// that it also moves where Ferry was begun anew.
func (f *Flow) beat(now time.Time, s *Sight) ([]Act, time.Time) {
	every := time.Duration(f.x.BeatMs) * time.Millisecond
	if now.Before(f.nextPace) {
		return nil, f.nextPace
	}
	if f.nextPace = f.nextPace.Add(every); !f.nextPace.After(now) {
		f.nextPace = now.Add(every)
	}
	f.Counts.Read++
	was := f.last
	if was.IsNone() && s.Target.good() {
		was = s.Target.Value
	}
	if f.to.Type == value.TypeBool {
		return []Act{{Point: f.to.ID, Value: value.OfBool(!was.Bool())}}, f.nextPace
	}
	n := was.Float() + 1
	if !(n >= 1 && n <= mostBeats) {
		n = 1
	}
	return []Act{{Point: f.to.ID, Value: value.OfInt(int64(n))}}, f.nextPace
}
