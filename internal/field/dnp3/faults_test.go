package dnp3_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"ferry/internal/bench"
	family "ferry/internal/core/family/dnp3"
	"ferry/internal/core/judge"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/field/fieldtest"
	"ferry/internal/recording"
)

// TestFaults: each fault of an outstation shows in a value, a command, an exchange or a finding, and
// names itself there.
func TestFaults(t *testing.T) {
	said := func(quality value.Quality, words string) func(*seen) bool {
		return func(s *seen) bool {
			live, _ := s.e.Hub.Point("ai0")
			return live.Quality == quality && strings.Contains(live.Reason, words)
		}
	}
	exchanged := func(words string) func(*seen) bool {
		return func(s *seen) bool {
			for _, x := range s.e.Hub.Exchanges(0, 100, "l") {
				if strings.Contains(x.Operation+" "+x.Sentence, words) {
					return true
				}
			}
			return false
		}
	}
	found := func(code string) func(*seen) bool {
		return func(s *seen) bool {
			list := s.e.Hub.Exchanges(0, 200, "l")
			for i, j := 0, len(list)-1; i < j; i, j = i+1, j-1 {
				list[i], list[j] = list[j], list[i]
			}
			for _, f := range recording.Told(s.site, &s.site.Links[0], list, s.now(), &s.numbered) {
				if f.Code == code {
					return true
				}
			}
			return false
		}
	}
	refused := func(words string) func(*seen) bool {
		return func(s *seen) bool {
			order, err := s.e.Prepare(context.Background(), "bo1", "1")
			if err != nil {
				t.Fatal(err)
			}
			result, _ := s.e.Write(context.Background(), "Ines", order.Token)
			return !result.OK && strings.Contains(result.Sentence, words)
		}
	}
	// seldom are polls between which more events come than three.
	seldom := protocol.Settings{family.KeyClass1: protocol.OfInt(2000), family.KeyClass2: protocol.OfInt(2000),
		family.KeyClass3: protocol.OfInt(2000)}
	for _, c := range []struct {
		kind     string
		settings protocol.Settings
		shows    func(*seen) bool
	}{
		{"needs-time", protocol.Settings{family.KeyTime: protocol.OfText(family.TimeNever)}, found("clock-unset")},
		{"overflow", seldom, exchanged("integrity poll after lost events")},
		{"overflow", seldom, found("queue-overrun")},
		{"unconfirmed", protocol.Settings{family.KeyUnasked2: protocol.OfSwitch(true), family.KeyClass1: protocol.OfInt(0),
			family.KeyClass2: protocol.OfInt(0), family.KeyClass3: protocol.OfInt(0)},
			exchanged("the same again")},
		{"never-unasked", protocol.Settings{family.KeyUnasked1: protocol.OfSwitch(true)},
			exchanged("refuses to send events unasked")},
		{"offline", nil, said(value.Bad, "not online")},
		{"comm-lost", nil, said(value.Bad, "communication with what is behind it is lost")},
		{"forced", nil, said(value.Good, "forced at the outstation")},
		{"chatters", nil, said(value.Doubtful, "over its range")},
		{"local", nil, refused("status 7, local")},
		{"blocked", nil, refused("status 15, blocked")},
		{"forgets", nil, refused("status 2, no select")},
		{"trouble", nil, found("trouble-told")},
		{"check", nil, exchanged("fails its checks")},
		{"endless", nil, exchanged("more than 500 fragments")},
		{"other-master", nil, said(value.Bad, "does not answer master 1")},
		{"shift", nil, func(s *seen) bool {
			live, _ := s.e.Hub.Point("bi0")
			return live.Quality == value.Bad && strings.Contains(live.Reason, "does not tell of bi0")
		}},
	} {
		t.Run(c.kind, func(t *testing.T) {
			t.Parallel()
			settings := fast()
			for key, v := range c.settings {
				settings[key] = v
			}
			s := &seen{t: t}
			var b *bench.Bench
			s.site, b, s.e = station(t, settings)
			if err := b.SetFault("pumps", bench.Fault{Kind: c.kind}); err != nil {
				t.Fatal(err)
			}
			if err := s.e.Start(nil); err != nil {
				t.Fatal(err)
			}
			fieldtest.Wait(t, c.kind+" shows", func() bool { return c.shows(s) })
		})
	}
}

// seen is a site that is looked at.
type seen struct {
	t        *testing.T
	site     *site.Site
	e        *field.Engine
	numbered []judge.Numbered
}

func (*seen) now() time.Time { return time.Now().Add(3 * time.Second) }
