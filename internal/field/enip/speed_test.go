package enip_test

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"log"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"time"

	"ferry/internal/bench"
	"ferry/internal/core/address"
	family "ferry/internal/core/family/enip"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/field/fieldtest"
)

// TestMain plays the feed controller until its standard input ends.
func TestMain(m *testing.M) {
	if os.Getenv("FERRY_PLAYS_FEED") == "" {
		os.Exit(m.Run())
	}
	s, stand := feed(), bench.New()
	if err := stand.Sync(s); err != nil {
		log.Fatal(err)
	}
	fmt.Println(stand.Dial(s, &s.Links[0]))
	_, _ = io.Copy(io.Discard, os.Stdin) // however it ends, that is the end
}

func feed() *site.Site {
	s := &site.Site{Lines: []site.Line{{ID: "net", Medium: site.Ethernet}},
		Links: []site.Link{{ID: "k", Answering: "d", Line: "net", Protocol: family.Explicit.Name}},
		Devices: []site.Device{{ID: "d", Name: "Feed controller", Map: family.Explicit.Name,
			Ports: []site.Port{{Line: "net", Host: "192.0.2.71", Protocol: family.Explicit.Name}}}}}
	for i := range 10 {
		s.Devices[0].Points = append(s.Devices[0].Points, site.Point{ID: fmt.Sprint("p", i), Name: fmt.Sprint("Level ", i),
			Address: address.Named(family.Tags, fmt.Sprintf("Hopper%d.Level", i)), Type: value.TypeFloat32, PaceMs: 1000,
			Access: site.ReadOnly})
	}
	return s
}

// TestRatios runs the engine and a bare loop over the same socket code in turns: one
// connection, one message outstanding, ten tags in it. It is part of make bench.
func TestRatios(t *testing.T) {
	if os.Getenv("FERRY_FIGURES") == "" {
		t.Skip("part of make bench")
	}
	controller := exec.CommandContext(t.Context(), os.Args[0])
	controller.Env, controller.Stderr = append(os.Environ(), "FERRY_PLAYS_FEED=1"), os.Stderr
	in, err := controller.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	out, err := controller.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := controller.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() {
		_ = in.Close()
		_ = controller.Wait() // it was told to end
	}()
	dial, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		t.Fatal(err)
	}
	dial = strings.TrimSpace(dial)
	s := feed()
	driver, _, err := field.DriverOf(family.Explicit.Name)
	if err != nil {
		t.Fatal(err)
	}
	var wanted []protocol.Wanted
	for i := range s.Devices[0].Points {
		wanted = append(wanted, s.Devices[0].Points[i].Wanted())
	}
	const turns, n = 8, 10_000
	var ratios, rates []float64
	for range turns {
		conn, reply := driver.Dial(context.Background(), field.Target{Dial: dial})
		if conn == nil {
			t.Fatal(reply.Sentence)
		}
		began := time.Now()
		for range n {
			if reply, _ := conn.(field.Asker).AskItems(wanted); !reply.OK() {
				t.Fatal(reply.Sentence)
			}
		}
		bare := time.Since(began)
		_ = conn.Close()
		began = time.Now()
		if got, err := field.RunRequests(&s.Links[0], &s.Devices[0], field.Target{Dial: dial}, n); err != nil || got < n {
			t.Fatal(got, err)
		}
		engine := time.Since(began)
		ratios, rates = append(ratios, float64(bare)/float64(engine)), append(rates, n/engine.Seconds())
	}
	slices.Sort(ratios)
	slices.Sort(rates)
	t.Logf("figure: EtherNet/IP, explicit reads of ten tags, the run engine at %.2f of a bare loop over the same socket code (%.2f to %.2f in "+
		"%d turns), %.0f requests a second", ratios[turns/2], ratios[0], ratios[turns-1], turns, rates[turns/2])
}

// TestSilence measures the time from the last packet to bad inputs, beside the time-out. It
// is part of make bench.
func TestSilence(t *testing.T) {
	if os.Getenv("FERRY_FIGURES") == "" {
		t.Skip("part of make bench")
	}
	for _, every := range []int{10, 50, 100} {
		var took []float64
		for range 5 {
			e, b := fieldtest.Benched(t, reactor(t, protocol.Settings{family.KeyInEvery: protocol.OfInt(every)}))
			if err := e.Start(nil); err != nil {
				t.Fatal(err)
			}
			live := func() field.Live { l, _ := e.Hub.Point("i1"); return l }
			fieldtest.Wait(t, "intensities", func() bool { return live().Quality == value.Good })
			time.Sleep(300 * time.Millisecond)
			if err := b.SetFault("uv", bench.Fault{Kind: "mute"}); err != nil {
				t.Fatal(err)
			}
			for live().Quality == value.Good {
				time.Sleep(200 * time.Microsecond)
			}
			took = append(took, float64(time.Now().UnixMilli()-live().AtMs))
			e.Stop(nil)
		}
		slices.Sort(took)
		t.Logf("figure: EtherNet/IP, from the last packet to bad inputs at 4 × %d ms: %.0f ms (%.0f to %.0f in %d turns)",
			every, took[len(took)/2], took[0], took[len(took)-1], len(took))
		if took[len(took)/2] > float64(4*every)+15 {
			t.Errorf("later than the time-out")
		}
	}
}
