//go:build unix

package opcua_test

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/gopcua/opcua"
	"github.com/gopcua/opcua/ua"

	family "ferry/internal/core/family/opcua"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	target "ferry/internal/target/opcua"
)

// servesNodes is the variable of the environment by which the process of the tests is a server.
const servesNodes = "FERRY_TEST_SERVES_NODES"

func TestMain(m *testing.M) {
	if n := 0; os.Getenv(servesNodes) != "" {
		if _, err := fmt.Sscan(os.Getenv(servesNodes), &n); err == nil {
			serveNodes(n)
		}
		os.Exit(1)
	}
	os.Exit(m.Run())
}

// serveNodes serves nodes that change once a second, each at a time of its own, and says so with
// the time of their source.
func serveNodes(n int) {
	list := make([]target.Variable, n)
	begun := time.Now()
	for i := range list {
		shift := time.Duration(i) * time.Second / time.Duration(n)
		id := fmt.Sprintf("Row%d.Value%d", i/100, i)
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

// process begins a server in a process of its own.
func process(tb testing.TB, n int) (at string, pid int) {
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), fmt.Sprint(servesNodes, "=", n))
	out, err := cmd.StdoutPipe()
	if err != nil {
		tb.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		tb.Fatal(err)
	}
	tb.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		tb.Fatal(err)
	}
	return strings.TrimSpace(line), cmd.Process.Pid
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
	at, pid := process(b, nodes)
	s := site.New("Skerry Point Hatchery")
	s.Lines = []site.Line{{ID: "net", Name: "Plant net", Medium: "ethernet", Network: "192.0.2.0/24"}}
	points := make([]site.Point, nodes)
	for i := range points {
		node, err := family.Scheme.Parse(fmt.Sprintf("nsu=urn:skerry:hall;s=Row%d.Value%d", i/100, i), "")
		if err != nil {
			b.Fatal(err)
		}
		points[i] = site.Point{ID: fmt.Sprint("n", i), Name: fmt.Sprintf("Row%d.Value%d", i/100, i), Address: node,
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
		bare(b, at, nodes, lasts)
		b.ReportMetric(0, "ns/op")
	}
}

// bare follows as many nodes with the client of the library, and does nothing with them.
func bare(b *testing.B, at string, nodes int, lasts time.Duration) {
	ctx, end := context.WithTimeout(context.Background(), 2*lasts)
	defer end()
	client, err := opcua.NewClient("opc.tcp://"+at, opcua.SecurityMode(ua.MessageSecurityModeNone))
	if err != nil {
		b.Fatal(err)
	}
	if err := client.Connect(ctx); err != nil {
		b.Fatal(err)
	}
	defer client.Close(ctx)
	news := make(chan *opcua.PublishNotificationData, 100)
	sub, err := client.Subscribe(ctx, &opcua.SubscriptionParameters{Interval: time.Second}, news)
	if err != nil {
		b.Fatal(err)
	}
	for from := 0; from < nodes; from += 1000 {
		var list []*ua.MonitoredItemCreateRequest
		for i := from; i < from+1000; i++ {
			list = append(list, &ua.MonitoredItemCreateRequest{MonitoringMode: ua.MonitoringModeReporting,
				ItemToMonitor: &ua.ReadValueID{NodeID: ua.NewStringNodeID(1, fmt.Sprintf("Row%d.Value%d", i/100, i)),
					AttributeID: ua.AttributeIDValue, DataEncoding: &ua.QualifiedName{}},
				RequestedParameters: &ua.MonitoringParameters{ClientHandle: uint32(i), SamplingInterval: 1000, QueueSize: 10,
					DiscardOldest: true}})
		}
		if _, err := sub.Monitor(ctx, ua.TimestampsToReturnBoth, list...); err != nil {
			b.Fatal(err)
		}
	}
	for range 5 {
		<-news
	}
	before, began, late := used(), time.Now(), []float64{}
	for time.Since(began) < lasts {
		m := <-news
		now := time.Now()
		if change, ok := m.Value.(*ua.DataChangeNotification); ok {
			for _, item := range change.MonitoredItems {
				late = append(late, float64(now.Sub(item.Value.SourceTimestamp))/1e6)
			}
		}
	}
	took := time.Since(began).Seconds()
	b.ReportMetric(100*(used()-before).Seconds()/took, "bare-%-of-a-core")
	b.ReportMetric(within(late, .5), "bare-p50-ms")
	b.ReportMetric(within(late, .99), "bare-p99-ms")
	b.ReportMetric(float64(len(late))/took, "bare-values/s")
}
