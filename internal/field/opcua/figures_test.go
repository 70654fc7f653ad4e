//go:build unix

package opcua_test

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/gopcua/opcua"
	"github.com/gopcua/opcua/ua"

	"ferry/internal/bench"
	_ "ferry/internal/bench/modbus"
	"ferry/internal/core/block"
	family "ferry/internal/core/family/opcua"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	_ "ferry/internal/field/modbus"
	target "ferry/internal/target/opcua"
)

// Variables of the environment by which the process of the tests is a server of so many nodes, or
// five clients of one that is there.
const (
	servesNodes  = "FERRY_TEST_SERVES_NODES"
	followsNodes = "FERRY_TEST_FOLLOWS_NODES"
)

func TestMain(m *testing.M) {
	if n := 0; os.Getenv(servesNodes) != "" {
		if _, err := fmt.Sscan(os.Getenv(servesNodes), &n); err == nil {
			serveNodes(n)
		}
		os.Exit(1)
	}
	if at := os.Getenv(followsNodes); at != "" {
		followFive(at)
	}
	os.Exit(m.Run())
}

// followFive follows all nodes of a server five times, and prints how late they were told.
func followFive(at string) {
	var all sync.WaitGroup
	results := make([]followed, 5)
	for i := range results {
		all.Go(func() { results[i] = follow(at, servedNodes, 500, 15*time.Second) })
	}
	all.Wait()
	var late []float64
	for _, r := range results {
		if r.err != nil {
			fmt.Println("failed:", r.err)
			os.Exit(1)
		}
		late = append(late, r.late...)
	}
	fmt.Println(within(late, .5), within(late, .99), float64(len(late))/15)
	os.Exit(0)
}

// serveNodes serves nodes that change once a second, each at a time of its own, and says so with
// the time of their source.
func serveNodes(n int) {
	list := make([]target.Variable, n)
	begun := time.Now()
	for i := range list {
		shift := time.Duration(i) * time.Second / time.Duration(n)
		id := rowOf(i)
		list[i] = target.Variable{URI: "urn:skerry:hall", ID: id, Name: id, Type: ua.TypeIDDouble,
			Read: func() *ua.DataValue {
				k := time.Since(begun.Add(shift)) / time.Second
				v := target.Good(float64(k))
				v.SourceTimestamp = begun.Add(shift).Add(k * time.Second).UTC()
				return v
			}}
	}
	server := target.New(target.Config{Variables: func() []target.Variable { return list },
		User: func(string, string) (bool, bool) { return true, false }})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return
	}
	fmt.Println(l.Addr())
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		go server.Take(conn)
	}
}

// process begins a process of the tests in another part.
func process(tb testing.TB, as string) (out *bufio.Reader, pid int) {
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), as)
	pipe, err := cmd.StdoutPipe()
	if err != nil {
		tb.Fatal(err)
	}
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		tb.Fatal(err)
	}
	tb.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	return bufio.NewReader(pipe), cmd.Process.Pid
}

func used() time.Duration {
	var u syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// usedBy is what another process used, of which the system tells hundredths of a second.
func usedBy(pid int) time.Duration {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0
	}
	var user, system int
	f := strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+1:]))
	_, _ = fmt.Sscan(f[11]+" "+f[12], &user, &system)
	return time.Duration(user+system) * 10 * time.Millisecond
}

func within(ms []float64, of float64) float64 {
	slices.Sort(ms)
	if len(ms) == 0 {
		return -1
	}
	return ms[min(len(ms)-1, int(of*float64(len(ms))))]
}

// BenchmarkFollowed follows ten thousand nodes of a server in another process, each of which
// changes once a second, looked at every second and told every second; and beside it, after it,
// with nothing but the library.
func BenchmarkFollowed(b *testing.B) {
	const nodes, lasts = 10_000, 20 * time.Second
	out, pid := process(b, fmt.Sprint(servesNodes, "=", nodes))
	at, err := out.ReadString('\n')
	if err != nil {
		b.Fatal(err)
	}
	at = strings.TrimSpace(at)
	s := site.New("Skerry Point Hatchery")
	s.Lines = []site.Line{{ID: "net", Name: "Plant net", Medium: "ethernet", Network: "192.0.2.0/24"}}
	points := make([]site.Point, nodes)
	for i := range points {
		node, err := family.Scheme.Parse("nsu=urn:skerry:hall;s="+rowOf(i), "")
		if err != nil {
			b.Fatal(err)
		}
		points[i] = site.Point{ID: fmt.Sprint("n", i), Name: rowOf(i), Address: node,
			Type: value.TypeFloat64, PaceMs: 1000, Access: site.ReadOnly}
	}
	s.Devices = []site.Device{
		{ID: "lss", Name: "LSS controller", Ports: []site.Port{{Line: "net", Host: "192.0.2.10"}}, Points: []site.Point{}},
		{ID: "hall", Name: "Hall supervisor", Map: "opc.tcp", Points: points,
			Ports: []site.Port{{Line: "net", Host: "192.0.2.90", Protocol: "opc.tcp"}}}}
	s.Links = []site.Link{{ID: "l", Asking: "lss", Answering: "hall", Line: "net", Protocol: "opc.tcp",
		Settings: protocol.Settings{family.KeyPublish: protocol.OfInt(1000)}}}
	if err := s.Validate(); err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		e := field.NewEngine(s, elsewhere(at))
		if err := e.Start(nil); err != nil {
			b.Fatal(err)
		}
		time.Sleep(5 * time.Second)
		before, served, began := used(), usedBy(pid), time.Now()
		late, told, seen := []float64{}, 0, make([]int64, nodes)
		for time.Since(began) < lasts {
			time.Sleep(250 * time.Millisecond)
			for i := range seen {
				if l, ok := e.Hub.Point(points[i].ID); ok && l.SourceMs != seen[i] {
					if seen[i] != 0 {
						late = append(late, float64(l.AtMs-l.SourceMs))
						told++
					}
					seen[i] = l.SourceMs
				}
			}
		}
		took := time.Since(began).Seconds()
		b.ReportMetric(100*(used()-before).Seconds()/took, "%-of-a-core")
		b.ReportMetric(100*(usedBy(pid)-served).Seconds()/took, "server-%-of-a-core")
		b.ReportMetric(within(late, .5), "p50-ms")
		b.ReportMetric(within(late, .99), "p99-ms")
		b.ReportMetric(float64(told)/took, "values/s")
		e.Close()
		bare := follow(at, nodes, 1000, lasts)
		if bare.err != nil {
			b.Fatal(bare.err)
		}
		b.ReportMetric(100*bare.used.Seconds()/lasts.Seconds(), "bare-%-of-a-core")
		b.ReportMetric(within(bare.late, .5), "bare-p50-ms")
		b.ReportMetric(within(bare.late, .99), "bare-p99-ms")
		b.ReportMetric(float64(len(bare.late))/lasts.Seconds(), "bare-values/s")
		b.ReportMetric(0, "ns/op")
	}
}

// followed is what a client was told: how many milliseconds after their source the values came,
// and what it used.
type followed struct {
	late []float64
	used time.Duration
	err  error
}

// follow follows as many nodes with the client of the library, and does nothing with them.
func follow(at string, nodes, everyMs int, lasts time.Duration) (f followed) {
	ctx, end := context.WithTimeout(context.Background(), 4*lasts)
	defer end()
	client, err := opcua.NewClient("opc.tcp://"+at, opcua.SecurityMode(ua.MessageSecurityModeNone))
	if err != nil {
		return followed{err: err}
	}
	if err := client.Connect(ctx); err != nil {
		return followed{err: err}
	}
	defer client.Close(ctx)
	news := make(chan *opcua.PublishNotificationData, 100)
	sub, err := client.Subscribe(ctx,
		&opcua.SubscriptionParameters{Interval: time.Duration(everyMs) * time.Millisecond}, news)
	if err != nil {
		return followed{err: err}
	}
	made := make(chan error, 1)
	go func() {
		for from := 0; from < nodes; from += 1000 {
			var list []*ua.MonitoredItemCreateRequest
			for i := from; i < from+1000; i++ {
				list = append(list, &ua.MonitoredItemCreateRequest{MonitoringMode: ua.MonitoringModeReporting,
					ItemToMonitor: &ua.ReadValueID{NodeID: ua.NewStringNodeID(1, rowOf(i)), AttributeID: ua.AttributeIDValue,
						DataEncoding: &ua.QualifiedName{}},
					RequestedParameters: &ua.MonitoringParameters{ClientHandle: uint32(i), SamplingInterval: float64(everyMs),
						QueueSize: 10, DiscardOldest: true}})
			}
			answer, err := sub.Monitor(ctx, ua.TimestampsToReturnBoth, list...)
			for i := 0; err == nil && i < len(answer.Results); i++ {
				if code := answer.Results[i].StatusCode; code != ua.StatusOK {
					err = code
				}
			}
			if err != nil {
				made <- err
				return
			}
		}
		made <- nil
	}()
	for ready := false; !ready; {
		select {
		case <-news:
		case err := <-made:
			if err != nil {
				return followed{err: err}
			}
			ready = true
		}
	}
	for settled := time.Now().Add(3 * time.Second); time.Now().Before(settled); {
		<-news
	}
	before, began := used(), time.Now()
	for time.Since(began) < lasts {
		m := <-news
		now := time.Now()
		if change, ok := m.Value.(*ua.DataChangeNotification); ok {
			for _, item := range change.MonitoredItems {
				f.late = append(f.late, float64(now.Sub(item.Value.SourceTimestamp))/1e6)
			}
		}
	}
	f.used = used() - before
	return f
}

// rowOf is the name of a node.
func rowOf(i int) string { return fmt.Sprintf("Row%d.Value%d", i/100, i) }

// servedNodes is how many nodes Ferry serves.
const servedNodes = 10_000

// BenchmarkServed serves ten thousand nodes, whose values come from a hundred devices once a
// second, to five clients in a process of their own that follow all of them every 500 ms. The
// stand-ins are in Ferry's process.
func BenchmarkServed(b *testing.B) {
	s := site.New("Skerry Point Hatchery")
	s.Lines = []site.Line{{ID: "net", Name: "Plant net", Medium: "ethernet", Network: "192.0.0.0/16"}}
	s.Devices = []site.Device{
		{ID: "lss", Name: "LSS controller", Ports: []site.Port{{Line: "net", Host: "192.0.2.10"}}, Points: []site.Point{}},
		{ID: "own", Name: "Shore names", Map: "opc.tcp", Serving: &site.Serving{},
			Ports: []site.Port{{Line: "net", Host: "192.0.2.11", Protocol: "opc.tcp"}}}}
	for i := range 100 {
		d := site.Device{ID: fmt.Sprint("d", i), Name: fmt.Sprint("Row ", i), Map: "modbus-tcp",
			Ports: []site.Port{{Line: "net", Host: fmt.Sprint("192.0.3.", i+1), Protocol: "modbus-tcp"}}}
		for k := range servedNodes / 100 {
			n := 100*i + k
			d.Points = append(d.Points, site.Point{ID: fmt.Sprint("s", n), Name: fmt.Sprint("Value", n), Type: value.TypeFloat32,
				Address: block.At("hr", uint32(2*k)), PaceMs: 1000, Access: site.ReadOnly})
			node, err := family.Scheme.Parse("nsu=urn:skerry:shore;s="+rowOf(n), "")
			if err != nil {
				b.Fatal(err)
			}
			s.Devices[1].Points = append(s.Devices[1].Points, site.Point{ID: fmt.Sprint("n", n), Name: rowOf(n), Address: node,
				Type: value.TypeFloat32, PaceMs: 1000, Access: site.ReadOnly})
			s.Crossings = append(s.Crossings, site.Crossing{ID: fmt.Sprint("x", n), From: fmt.Sprint("s", n),
				To: fmt.Sprint("n", n)})
		}
		s.Devices = append(s.Devices, d)
		s.Links = append(s.Links, site.Link{ID: "l" + d.ID, Asking: "lss", Answering: d.ID, Line: "net",
			Protocol: "modbus-tcp"})
	}
	if err := s.Validate(); err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		st := bench.New()
		if err := st.Sync(s); err != nil {
			b.Fatal(err)
		}
		e := field.NewEngine(s, st)
		if err := e.Start(nil); err != nil {
			b.Fatal(err)
		}
		time.Sleep(3 * time.Second)
		alone, began := used(), time.Now()
		time.Sleep(5 * time.Second)
		b.ReportMetric(100*(used()-alone).Seconds()/time.Since(began).Seconds(), "without-clients-%-of-a-core")
		out, _ := process(b, followsNodes+"="+e.Serving()[0].Listens[0])
		time.Sleep(10 * time.Second) // until all is subscribed to
		before, began := used(), time.Now()
		time.Sleep(8 * time.Second)
		b.ReportMetric(100*(used()-before).Seconds()/time.Since(began).Seconds(), "%-of-a-core")
		var heap runtime.MemStats
		runtime.ReadMemStats(&heap)
		b.ReportMetric(float64(heap.HeapInuse)/1e6, "heap-MB")
		line, err := out.ReadString('\n')
		if err != nil {
			b.Fatal(err)
		}
		var p50, p99, each float64
		if _, err := fmt.Sscan(line, &p50, &p99, &each); err != nil {
			b.Fatal(line)
		}
		b.ReportMetric(p50, "p50-ms")
		b.ReportMetric(p99, "p99-ms")
		b.ReportMetric(each, "values/s")
		e.Close()
		_ = st.Close()
		b.ReportMetric(0, "ns/op")
	}
}
