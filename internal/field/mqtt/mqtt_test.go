package mqtt_test

import (
	"context"
	"slices"
	"strings"
	"testing"
	"time"

	four "github.com/eclipse/paho.mqtt.golang"

	"ferry/internal/bench"
	"ferry/internal/core/address"
	family "ferry/internal/core/family/mqtt"
	"ferry/internal/core/pairing"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	_ "ferry/internal/families"
	"ferry/internal/field"
	"ferry/internal/field/fieldtest"
)

// cloud is a probe whose values are published to a broker, and a broker to which the
// night watch publishes.
func cloud(t *testing.T, version string, settings protocol.Settings) *site.Site {
	t.Helper()
	topic := func(text string) address.Address {
		a, err := family.Scheme.Parse(text, "")
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	if settings == nil {
		settings = protocol.Settings{}
	}
	settings[family.KeyVersion] = protocol.OfText(version)
	s := &site.Site{Format: site.Format, Version: site.Version, Name: "Skerry Point Hatchery",
		Lines: []site.Line{{ID: "net", Name: "Plant network", Medium: site.Ethernet}},
		Devices: []site.Device{
			{ID: "gate", Name: "Cloud gateway", Ports: []site.Port{{Line: "net", Host: "192.0.2.1"}}},
			{ID: "broker", Name: "Cloud broker", Map: "mqtt",
				Ports: []site.Port{{Line: "net", Host: "192.0.2.80", Protocol: "mqtt"}}, Points: []site.Point{
					{ID: "watch", Name: "Watch", Address: topic("skerry/watch"), Type: "float32", Access: site.ReadOnly},
					{ID: "round", Name: "Round", Address: topic("skerry/night $.round.number"), Type: "uint16", Access: site.ReadOnly},
					{ID: "out", Name: "Out", Address: topic("skerry/out"), Type: "float32", Access: site.ReadWrite, PaceMs: 1000},
					{ID: "part", Name: "Part", Address: topic("skerry/both $.oxygen"), Type: "float32", Access: site.ReadWrite},
					{ID: "other", Name: "Other", Address: topic("skerry/both $.ok"), Type: "bool", Access: site.ReadWrite}}}},
		Links: []site.Link{{ID: "up", Asking: "gate", Answering: "broker", Line: "net", Protocol: "mqtt",
			Settings: settings}},
		Crossings: []site.Crossing{{ID: "x", From: "watch", To: "out", Factor: 2}},
	}
	if err := s.Validate(); err != nil {
		t.Fatal(err)
	}
	return s
}

func run(t *testing.T, s *site.Site) (*field.Engine, *bench.Bench) {
	t.Helper()
	e, b := fieldtest.Benched(t, s)
	return e, b
}

// TestPublishAndSubscribe: in both versions a value is published, comes back from the
// broker, and what others publish is heard, in payloads of JSON as well.
func TestPublishAndSubscribe(t *testing.T) {
	for _, version := range []string{"4", "5"} {
		for _, payload := range []string{"plain", "json"} {
			t.Run(version+" "+payload, func(t *testing.T) {
				e, _ := run(t, cloud(t, version, protocol.Settings{family.KeyPayload: protocol.OfText(payload)}))
				if err := e.Start(nil); err != nil {
					t.Fatal(err)
				}
				live := func(id string) field.Live { l, _ := e.Hub.Point(id); return l }
				fieldtest.Wait(t, "what others publish", func() bool {
					return live("watch").Quality == value.Good && live("round").Quality == value.Good
				})
				fieldtest.Wait(t, "the crossing to come back from the broker", func() bool {
					return live("out").Quality == value.Good && e.Crossing("x").Count > 0 && live("out").Value.Float() != 0
				})
				heard := func() (of pairing.Proof) {
					s := e.Site()
					d, _ := s.Point("out")
					proofs, why := e.ProveNames(context.Background(), s, d, "", &s.Links[0], nil)
					if why != "" {
						t.Fatal(why)
					}
					for _, p := range proofs {
						if p.Point == "out" {
							of = p
						}
					}
					return of
				}
				if p := heard(); p.Verdict != pairing.There || p.Heard == nil || !p.Heard.Equal {
					t.Errorf("a second client: %+v, %+v", p, p.Heard)
				}
				if payload == "json" && live("out").SourceMs == 0 {
					t.Error("it came back without its time")
				}
				for id, text := range map[string]string{"part": "8.25", "other": "on"} {
					order, err := e.Prepare(context.Background(), id, text)
					if err != nil {
						t.Fatal(err)
					}
					if result, err := e.Write(context.Background(), "test", order.Token); err != nil || !result.OK {
						t.Fatalf("%+v, %v", result, err)
					}
				}
				fieldtest.Wait(t, "two members of one payload", func() bool {
					return live("part").Value.Float() == 8.25 && live("other").Value.Bool()
				})
			})
		}
	}
}

// TestTryBroker: each fault of a broker stops the message where it should, with its
// cause.
func TestTryBroker(t *testing.T) {
	for _, version := range []string{"4", "5"} {
		e, b := run(t, cloud(t, version, protocol.Settings{protocol.KeyWithin: protocol.OfInt(500)}))
		for _, c := range []struct {
			fault bench.Fault
			stop  route.Stop
			word  string
		}{
			{bench.Fault{}, "", ""},
			{bench.Fault{Kind: "stop"}, route.Address, "nobody listens"},
			{bench.Fault{Kind: "silent"}, route.Session, "nothing came back within 500 ms"},
			{bench.Fault{Kind: "user"}, route.Session, map[string]string{"4": "user not authorised",
				"5": "bad user or password"}[version]},
			{bench.Fault{Kind: "full"}, route.Session, "hangs up without an answer"},
			{bench.Fault{Kind: "rights"}, route.Points, "Not to be had, 5 of 5"},
			{bench.Fault{Kind: "payload"}, route.Points, "which is no number"},
		} {
			if err := b.SetFault("broker", c.fault); err != nil {
				t.Fatal(err)
			}
			r, err := e.Try(context.Background(), "up")
			if err != nil {
				t.Fatal(err)
			}
			at, said := route.Stop(""), ""
			for _, stop := range r.Stops {
				if r.StopsAt != nil && stop.Stop == *r.StopsAt {
					at, said = stop.Stop, stop.Saw+" "+stop.Remedy
				}
			}
			if at != c.stop || !strings.Contains(said, c.word) {
				t.Errorf("%s, %q: stops at %q: %s; want %q …%s…", version, c.fault.Kind, at, said, c.stop, c.word)
			}
		}
	}
}

// TestListTopics: a broker is asked which topics it has.
func TestListTopics(t *testing.T) {
	e, _ := run(t, cloud(t, "5", nil))
	held, _, err := e.Held(context.Background(), "up")
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, h := range held {
		names = append(names, family.Scheme.Short(h.Address)+" "+string(h.Shape.Type))
	}
	if want := []string{"skerry/night $.round.number float64", "skerry/watch float64"}; !slices.Equal(names, want) {
		t.Errorf("it lists %q, want %q", names, want)
	}
}

// TestBrokerFollowsMap: a change of the map of a broker on the bench throws nobody out, and
// what was left there stays.
func TestBrokerFollowsMap(t *testing.T) {
	s := cloud(t, "4", nil)
	_, b := run(t, s)
	at := b.List(s)[0].Addr
	lost := make(chan error, 1)
	client := four.NewClient(four.NewClientOptions().AddBroker("tcp://" + at).SetClientID("shore").SetAutoReconnect(false).
		SetConnectionLostHandler(func(_ four.Client, err error) { lost <- err }))
	if token := client.Connect(); !token.WaitTimeout(5*time.Second) || token.Error() != nil {
		t.Fatal(token.Error())
	}
	defer client.Disconnect(50)
	client.Publish("skerry/kept", 1, true, "8.5").Wait()
	added := s.Devices[1].Points[0]
	added.ID, added.Name = "new", "New"
	at2, err := family.Scheme.Parse("skerry/new", "")
	if err != nil {
		t.Fatal(err)
	}
	added.Address = at2
	next, _, err := s.Apply([]site.Edit{site.Put(site.KindPoint, "new", "broker", added)})
	if err != nil {
		t.Fatal(err)
	}
	if err := b.Sync(next); err != nil {
		t.Fatal(err)
	}
	heard := make(chan string, 10)
	client.SubscribeMultiple(map[string]byte{"skerry/kept": 1, "skerry/new": 1}, func(_ four.Client, m four.Message) {
		heard <- m.Topic()
	}).Wait()
	for seen := map[string]bool{}; len(seen) < 2; {
		select {
		case topic := <-heard:
			seen[topic] = true
		case err := <-lost:
			t.Fatalf("it was thrown out: %v", err)
		case <-time.After(5 * time.Second):
			t.Fatalf("heard only %v", seen)
		}
	}
}

// TestTLS: a broker is trusted by its certificate, and each way in which that fails is
// said in words.
func TestTLS(t *testing.T) {
	both := protocol.Settings{family.KeyTLS: protocol.OfSwitch(true)}
	s := cloud(t, "5", both)
	s.Devices[1].Ports[0].Settings = protocol.Settings{family.KeyTLS: protocol.OfSwitch(true)}
	e, b := run(t, s)
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	live := func(id string) field.Live { l, _ := e.Hub.Point(id); return l }
	carried := func() bool {
		return live("watch").Quality == value.Good && live("out").Quality == value.Good && e.Crossing("x").State == "carrying"
	}
	fieldtest.Wait(t, "values over TLS", carried)
	for fault, says := range map[string]string{"stranger": "its certificate is not trusted",
		"expired": "is not valid at this time",
		"name":    "its certificate is for another name", "callers": "it wants a certificate that it knows"} {
		if err := b.SetFault("broker", bench.Fault{Kind: "refuse"}); err != nil { // whoever is on it is thrown out
			t.Fatal(err)
		}
		if err := b.SetFault("broker", bench.Fault{Kind: fault}); err != nil {
			t.Fatal(err)
		}
		fieldtest.Wait(t, fault, func() bool {
			l := live("watch")
			return l.Quality == value.Bad && strings.Contains(l.Reason, says)
		})
	}
	if err := b.SetFault("broker", bench.Fault{}); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "values again", carried)
	for _, plain := range []string{"client", "broker"} {
		s := cloud(t, "4", protocol.Settings{family.KeyTLS: protocol.OfSwitch(plain == "broker")})
		s.Devices[1].Ports[0].Settings = protocol.Settings{family.KeyTLS: protocol.OfSwitch(plain == "client")}
		e, _ := run(t, s)
		if err := e.Start(nil); err != nil {
			t.Fatal(err)
		}
		fieldtest.Wait(t, "TLS to be missed at the "+plain, func() bool {
			l, _ := e.Hub.Point("watch")
			return l.Quality == value.Bad && strings.Contains(l.Reason, "TLS")
		})
	}
}
