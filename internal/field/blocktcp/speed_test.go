package blocktcp_test

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
	"ferry/internal/core/block"
	family "ferry/internal/core/family/blocktcp"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	_ "ferry/internal/families"
	"ferry/internal/field"
)

// TestMain plays the controller until its standard input ends.
func TestMain(m *testing.M) {
	if os.Getenv("FERRY_PLAYS_CONTROLLER") == "" {
		os.Exit(m.Run())
	}
	s, stand := hall(), bench.New()
	if err := stand.Sync(s); err != nil {
		log.Fatal(err)
	}
	fmt.Println(stand.Dial(s, &s.Links[0]))
	_, _ = io.Copy(io.Discard, os.Stdin) // however it ends, that is the end
}

func hall() *site.Site {
	port := site.Port{Line: "net", Host: "192.0.2.60", Protocol: family.Def.Name,
		Settings: protocol.Numbers(map[string]int{protocol.KeyThink: 0})}
	s := &site.Site{Lines: []site.Line{{ID: "net", Medium: site.Ethernet}},
		Links:   []site.Link{{ID: "k", Answering: "d", Line: "net", Protocol: family.Def.Name}},
		Devices: []site.Device{{ID: "d", Name: "Filtration hall", Map: family.Def.Name, Ports: []site.Port{port}}}}
	for i := range 10 {
		s.Devices[0].Points = append(s.Devices[0].Points,
			site.Point{ID: string(rune('a' + i)), Name: string(rune('A' + i)),
				Address: block.At("db7", uint32(40*(i/5)+2*i)), Type: value.TypeUint16, PaceMs: 1000,
				Access: site.ReadOnly})
	}
	return s
}

// TestRatios runs the engine and a bare loop over the same socket code in turns:
// one connection, one message outstanding, ten words in two items. It is part of
// make bench.
func TestRatios(t *testing.T) {
	if os.Getenv("FERRY_FIGURES") == "" {
		t.Skip("part of make bench")
	}
	controller := exec.CommandContext(t.Context(), os.Args[0])
	controller.Env, controller.Stderr = append(os.Environ(), "FERRY_PLAYS_CONTROLLER=1"), os.Stderr
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
	s := hall()
	driver, _, err := field.DriverOf(family.Def.Name)
	if err != nil {
		t.Fatal(err)
	}
	const turns, n = 10, 30_000
	ranges := []block.Range{{Area: "db7", Start: 0, Count: 10}, {Area: "db7", Start: 50, Count: 10}}
	var ratios, rates []float64
	for range turns {
		conn, reply := driver.Dial(context.Background(), field.Target{Dial: dial})
		if conn == nil {
			t.Fatal(reply.Sentence)
		}
		began := time.Now()
		for range n {
			if reply := field.Ask(conn, ranges); !reply.OK() {
				t.Fatal(reply.Sentence)
			}
		}
		bare := time.Since(began)
		_ = conn.Close()
		began = time.Now()
		if got, err := field.RunRequests(&s.Links[0], &s.Devices[0], field.Target{Dial: dial}, n); err != nil ||
			got < n {
			t.Fatal(got, err)
		}
		engine := time.Since(began)
		ratios, rates = append(ratios, float64(bare)/float64(engine)), append(rates, n/engine.Seconds())
	}
	slices.Sort(ratios)
	slices.Sort(rates)
	t.Logf("figure: block access, the run engine at %.2f of a bare loop over the same socket code (%.2f to %.2f in "+
		"%d turns; promised: 0.90), %.0f requests a second", ratios[turns/2], ratios[0], ratios[turns-1], turns,
		rates[turns/2])
	if ratios[turns/2] < 0.9 {
		t.Error("slower than 0.9 of the bare loop")
	}
}
