package main

import (
	"bytes"
	"context"
	"encoding/json"
	"net"
	"os"
	"strings"
	"testing"

	"ferry/internal/bench"
)

// do runs a command line as main does.
func do(t *testing.T, args ...string) (code int, out, errOut string) {
	t.Helper()
	var o, e bytes.Buffer
	code = run(context.Background(), args, &o, &e)
	return code, o.String(), e.String()
}

func stand(t *testing.T) (url string, b *bench.Bench) {
	t.Helper()
	b = bench.New()
	s := bench.Demo()
	if err := b.Sync(s); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = b.Close() })
	return b.List(s)[0].URL, b
}

func TestRead(t *testing.T) {
	url, _ := stand(t)
	code, out, _ := do(t, "read", url, "40015:text8", "hr5:uint16", "40005.0:bool", "hr2:float32:CDAB", "--json")
	var got struct {
		Points []struct {
			Point, Quality, Reason, Time, Words string
			Value                               any
		}
	}
	if err := json.Unmarshal([]byte(out), &got); err != nil || code != exitFine || len(got.Points) != 4 {
		t.Fatalf("exit %d: %s, %v", code, out, err)
	}
	for i, want := range []any{"DP-20417", 0.0, true} {
		if p := got.Points[i]; p.Value != want || p.Quality != "good" || p.Words == "" ||
			!strings.Contains(p.Time, "T") {
			t.Errorf("%+v, want %v", p, want)
		}
	}
	if f, ok := got.Points[3].Value.(float64); !ok || f < 11 || f > 14 {
		t.Errorf("the water has %v °C", got.Points[3].Value)
	}
	if code, out, _ := do(t, "read", url, "hr5:uint16", "hr900:uint16", "--json"); code != exitFound ||
		!strings.Contains(out, `"bad"`) || !strings.Contains(out, "illegal data address") {
		t.Errorf("a register that is not there: exit %d, %s", code, out)
	}
	if code, out, _ := do(t, "read", url, "hr5:uint16", "--count", "3", "--every", "20ms",
		"--json"); code != exitFine || strings.Count(out, `"point"`) != 3 {
		t.Errorf("three times: exit %d, %s", code, out)
	}
}

func TestProbe(t *testing.T) {
	url, b := stand(t)
	code, out, _ := do(t, "probe", url, "--json")
	var got struct {
		Stops []struct {
			Stop, Result, Saw, Remedy string
		}
		StopsAt *string
	}
	if err := json.Unmarshal([]byte(out), &got); err != nil || code != exitFine || len(got.Stops) != 5 ||
		got.StopsAt != nil {
		t.Fatalf("exit %d: %s, %v", code, out, err)
	}
	// A device without holding registers is probed by what it has.
	for _, d := range b.List(bench.Demo()) {
		if d.Place == bench.OfLine {
			continue
		}
		if d.Device == "offvent" { // which is not set as the plan says
			if code, out, _ := do(t, "probe", d.URL); code != exitFound || !strings.Contains(out, "it is 4060") {
				t.Errorf("%s: exit %d, %s", d.Name, code, out)
			}
			continue
		}
		if code, out, _ := do(t, "probe", d.URL); code != exitFine || strings.HasPrefix(d.URL, "enip-cyclic") &&
			strings.Contains(out, "doubt") {
			t.Errorf("%s: exit %d, %s", d.Name, code, out)
		}
		if strings.HasPrefix(d.URL, "opc.tcp") { // what it has is listed, and read without saying its type
			if code, out, _ := do(t, "browse", d.URL); code != exitFine || !strings.Contains(out, "s=Tank11.Oxygen") {
				t.Errorf("browse: exit %d, %s", code, out)
			}
			code, out, _ := do(t, "read", d.URL, "ns=2;s=Setpoints.Oxygen", "ns=2;s=Setpoints.FeedPause")
			if code != exitFine || !strings.Contains(out, "8.5") || !strings.Contains(out, "off") {
				t.Errorf("read: exit %d, %s", code, out)
			}
		}
	}
	if err := b.SetFault("do11", bench.Fault{Kind: "stop"}); err != nil {
		t.Fatal(err)
	}
	code, out, _ = do(t, "probe", url, "--json")
	if err := json.Unmarshal([]byte(out), &got); err != nil || code != exitFound || got.StopsAt == nil ||
		*got.StopsAt != "address" || got.Stops[4].Result != "not-tried" {
		t.Errorf("a stopped server: exit %d, %s, %v", code, out, err)
	}
}

func TestWrite(t *testing.T) {
	url, _ := stand(t)
	if code, out, _ := do(t, "write", url, "40053:float32:CDAB=0.998"); code != exitUsage ||
		!strings.Contains(out, "1.012") {
		t.Errorf("without --yes: exit %d, %s", code, out)
	}
	if code, out, _ := do(t, "write", url, "40053:float32:CDAB=0.998", "--yes", "--json"); code != exitFine ||
		!strings.Contains(out, `"ok": true`) {
		t.Errorf("with --yes: exit %d, %s", code, out)
	}
	if code, _, _ := do(t, "write", url, "hr900:uint16=1", "--yes"); code != exitFound {
		t.Errorf("where nothing is: exit %d", code)
	}
}

func TestUsage(t *testing.T) {
	busy, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer busy.Close()
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"read", "http://127.0.0.1", "40001"}, "modbus-tcp"},
		{[]string{"read", "modbus-tcp://127.0.0.1?unit=999", "40001"}, "0 to 255"},
		{[]string{"read", "modbus-tcp://127.0.0.1?colour=1", "40001"}, "colour"},
		{[]string{"read", "modbus-tcp://127.0.0.1:1", "4oo01:uint16"}, "4oo01"},
		{[]string{"write", "modbus-tcp://127.0.0.1:1", "40001:uint16", "--yes"}, "POINT=VALUE"},
		{[]string{"bench", "nowhere.json"}, "nowhere.json"},
		{[]string{"bench"}, "--demo"},
		{[]string{"serve", "--listen", "192.0.2.1:0", "--data", t.TempDir()}, "passphrase"},
		{[]string{"demo", "--listen", busy.Addr().String(), "--data", t.TempDir()}, "choose another port"},
		{[]string{"sail"}, "sail"},
	} {
		if code, out, errOut := do(t, c.args...); code != exitUsage || !strings.Contains(errOut, c.says) ||
			out != "" && c.args[0] != "sail" {
			t.Errorf("%v: exit %d, said %q and %q", c.args, code, out, errOut)
		}
	}
}

func TestVersion(t *testing.T) {
	var out, errOut strings.Builder
	if code := run(t.Context(), []string{"version", "--json"}, &out, &errOut); code != exitFine {
		t.Fatal(code, errOut.String())
	}
	var b build
	if err := json.Unmarshal([]byte(out.String()), &b); err != nil || b.Version == "" || b.Go == "" ||
		!strings.Contains(b.Platform, "/") {
		t.Errorf("%s, %v", out.String(), err)
	}
	log, err := os.ReadFile("../../CHANGELOG.md")
	if err != nil || !strings.Contains(string(log), "## "+b.Version) {
		t.Errorf("the changelog does not tell of %s: %v", b.Version, err)
	}
}
