package e2e

import (
	octets "encoding/binary"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"sync"
	"testing"
	"time"

	mqtt "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/listeners"
	"github.com/mochi-mqtt/server/v2/packets"

	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/files"
)

// counted is a register server that notes each value that it gave or was given, and
// can be killed and come back at its port.
type counted struct {
	t    *testing.T
	port int

	mu       sync.Mutex
	listener net.Listener
	conns    map[net.Conn]bool
	value    uint16
	gave     map[uint16]bool
	took     []uint16
}

func newCounted(t *testing.T) *counted {
	c := &counted{t: t, port: freePort(t), conns: map[net.Conn]bool{}, gave: map[uint16]bool{}}
	c.begin()
	t.Cleanup(c.kill)
	return c
}

func (c *counted) begin() {
	l, err := net.Listen("tcp", "127.0.0.1:"+strconv.Itoa(c.port))
	if err != nil {
		c.t.Error(err)
		return
	}
	c.mu.Lock()
	c.listener = l
	c.mu.Unlock()
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			c.mu.Lock()
			c.conns[conn] = true
			c.mu.Unlock()
			go c.serve(conn)
		}
	}()
}

func (c *counted) kill() {
	c.mu.Lock()
	defer c.mu.Unlock()
	_ = c.listener.Close()
	for conn := range c.conns {
		_ = conn.Close()
	}
	clear(c.conns)
}

func (c *counted) serve(conn net.Conn) {
	defer conn.Close()
	request := make([]byte, 260)
	for {
		if _, err := io.ReadFull(conn, request[:6]); err != nil {
			return
		}
		pdu := request[6 : 6+octets.BigEndian.Uint16(request[4:])]
		if _, err := io.ReadFull(conn, pdu); err != nil {
			return
		}
		c.mu.Lock()
		answer := append([]byte{}, request[:4]...)
		switch pdu[1] {
		case 3:
			c.gave[c.value] = true
			answer = append(answer, 0, 5, pdu[0], 3, 2, byte(c.value>>8), byte(c.value))
		case 6:
			c.value = octets.BigEndian.Uint16(pdu[4:])
			c.took = append(c.took, c.value)
			answer = append(append(answer, 0, 6), pdu[:6]...)
		case 16:
			c.value = octets.BigEndian.Uint16(pdu[7:])
			c.took = append(c.took, c.value)
			answer = append(append(answer, 0, 6), pdu[:6]...)
		default:
			answer = append(answer, 0, 3, pdu[0], pdu[1]|0x80, 1)
		}
		c.mu.Unlock()
		if _, err := conn.Write(answer); err != nil {
			return
		}
	}
}

// allowed lets everybody do everything.
type allowed struct{ mqtt.HookBase }

func (*allowed) Provides(b byte) bool { return b == mqtt.OnConnectAuthenticate || b == mqtt.OnACLCheck }

func (*allowed) OnConnectAuthenticate(*mqtt.Client, packets.Packet) bool { return true }

func (*allowed) OnACLCheck(*mqtt.Client, string, bool) bool { return true }

// broker is one that has nothing kept, and is killed whole: the library leaves alone who
// comes while it closes.
type broker struct {
	*mqtt.Server
	listening *heard
}

// heard is a listener that knows whom it let in.
type heard struct {
	net.Listener
	mu    sync.Mutex
	conns []net.Conn
}

func (h *heard) Accept() (net.Conn, error) {
	c, err := h.Listener.Accept()
	h.mu.Lock()
	defer h.mu.Unlock()
	if err == nil {
		h.conns = append(h.conns, c)
	}
	return c, err
}

func newBroker(t *testing.T, port int) *broker {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:"+strconv.Itoa(port))
	if err != nil {
		t.Fatal(err)
	}
	b := &broker{mqtt.New(&mqtt.Options{Logger: slog.New(slog.NewTextHandler(io.Discard, nil))}), &heard{Listener: l}}
	if err = b.AddHook(new(allowed), nil); err == nil {
		err = b.AddListener(listeners.NewNet("tcp", b.listening))
	}
	if err == nil {
		err = b.Serve()
	}
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func (b *broker) Close() error {
	err := b.Server.Close()
	b.listening.mu.Lock()
	defer b.listening.mu.Unlock()
	for _, c := range b.listening.conns {
		_ = c.Close() // most have ended
	}
	return err
}

var valuesOf = regexp.MustCompile(`ferry_crossing_values_total\{crossing="x",result="(\w+)"\} (\d+)`)

// killedSite is the file of a site whose source goes to a device and, by the rules of up,
// to a broker.
func killedSite(t *testing.T, source, target *counted, brokerPort int, up site.Crossing) string {
	t.Helper()
	s := site.New("Skerry Point Hatchery")
	s.Lines = []site.Line{{ID: "net", Name: "Plant net", Medium: site.Ethernet}}
	device := func(id, name string, port int) {
		settings := protocol.Numbers(map[string]int{"port": port, "timeoutMs": 300, "retries": 0})
		s.Devices = append(s.Devices, site.Device{ID: id, Name: name, Map: "modbus-tcp", Ports: []site.Port{{Line: "net",
			Host: "127.0.0.1", Protocol: "modbus-tcp", Settings: protocol.Numbers(map[string]int{"port": port})}},
			Points: []site.Point{{ID: id + "-v", Name: "Count", Address: block.At("hr", 0), Type: value.TypeUint16,
				Access: site.ReadWrite, PaceMs: 100}}})
		s.Links = append(s.Links, site.Link{ID: "to-" + id, Asking: "lss", Answering: id, Line: "net", Protocol: "modbus-tcp",
			Settings: settings})
	}
	s.Devices = append(s.Devices, site.Device{ID: "lss", Name: "Controller", Ports: []site.Port{{Line: "net"}},
		Points: []site.Point{}})
	device("source", "Flow meter", source.port)
	device("target", "Shore gateway", target.port)
	topics, err := protocol.SchemeOf("mqtt")
	if err != nil {
		t.Fatal(err)
	}
	at, err := topics.Parse("skerry/count", "")
	if err != nil {
		t.Fatal(err)
	}
	s.Devices = append(s.Devices, site.Device{ID: "broker", Name: "Cloud broker", Map: "mqtt",
		Ports: []site.Port{{Line: "net",
			Host: "127.0.0.1", Protocol: "mqtt", Settings: protocol.Numbers(map[string]int{"port": brokerPort})}},
		Points: []site.Point{{ID: "broker-v", Name: "Count", Address: at, Type: value.TypeUint16, Access: site.ReadWrite,
			PaceMs: 1000}}})
	s.Links = append(s.Links, site.Link{ID: "up", Asking: "lss", Answering: "broker", Line: "net", Protocol: "mqtt",
		Settings: protocol.Numbers(map[string]int{"port": brokerPort})})
	up.ID, up.From, up.To = "y", "source-v", "broker-v"
	s.Crossings = []site.Crossing{{ID: "x", From: "source-v", To: "target-v"}, up}
	path := filepath.Join(t.TempDir(), "site.json")
	out, err := os.Create(path)
	if err == nil {
		err = files.WriteSite(out, s)
	}
	if err != nil || out.Close() != nil {
		t.Fatal(err)
	}
	return path
}

// TestKills kills source, target and broker at random for as long as FERRY_KILLS says,
// and counts: every value that the source gave arrived at the target, or is counted as
// overtaken, refused or dropped.
func TestKills(t *testing.T) {
	span, err := time.ParseDuration(os.Getenv("FERRY_KILLS"))
	if err != nil {
		t.Skip("FERRY_KILLS says no time")
	}
	source, target := newCounted(t), newCounted(t)
	brokerPort, watch := freePort(t), "127.0.0.1:"+strconv.Itoa(freePort(t))
	path := killedSite(t, source, target, brokerPort, site.Crossing{})
	broker := newBroker(t, brokerPort)
	defer func() { _ = broker.Close() }()
	run := exec.Command(binary(t), "run", path, "--plant", "--release", "--watch", watch, "--data", t.TempDir())
	if err := run.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _, _ = run.Process.Kill(), run.Wait() }()

	kills := map[string]int{}
	for ends := time.Now().Add(span); time.Now().Before(ends); {
		source.mu.Lock()
		source.value++
		source.mu.Unlock()
		time.Sleep(time.Duration(150+rand.IntN(500)) * time.Millisecond)
		if rand.IntN(20) > 0 {
			continue
		}
		down := time.Duration(200+rand.IntN(4000)) * time.Millisecond
		switch rand.IntN(3) {
		case 0:
			kills["source"]++
			source.kill()
			time.Sleep(down)
			source.begin()
		case 1:
			kills["target"]++
			target.kill()
			for ends := time.Now().Add(down); time.Now().Before(ends); time.Sleep(200 * time.Millisecond) {
				source.mu.Lock()
				source.value++
				source.mu.Unlock()
			}
			target.begin()
		default:
			kills["broker"]++
			_ = broker.Close()
			time.Sleep(down)
			broker = newBroker(t, brokerPort)
		}
	}
	eventually(t, "the last value to arrive", func() bool {
		source.mu.Lock()
		defer source.mu.Unlock()
		target.mu.Lock()
		defer target.mu.Unlock()
		return source.value == target.value
	})
	eventually(t, "the last value at the broker", func() bool {
		said, err := peerOutput("mosquitto_sub", "-h", "127.0.0.1", "-p", strconv.Itoa(brokerPort), "-t", "skerry/count",
			"-C", "1", "-W", "3")
		return err == nil && said == strconv.Itoa(int(source.value))
	})
	response, err := http.Get("http://" + watch + "/metrics")
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	text, _ := io.ReadAll(response.Body) // what is missing of it shows
	counts := map[string]int{}
	for _, m := range valuesOf.FindAllStringSubmatch(string(text), -1) {
		counts[m[1]], _ = strconv.Atoi(m[2])
	}
	arrived, twice := map[uint16]bool{}, 0
	for i, v := range target.took {
		if !source.gave[v] {
			t.Errorf("%d was written, and nobody gave it", v)
		}
		if i > 0 && v < target.took[i-1] {
			t.Errorf("%d was written after %d", v, target.took[i-1])
		}
		if arrived[v] {
			twice++
		}
		arrived[v] = true
	}
	missing := 0
	for v := range source.gave {
		if !arrived[v] {
			missing++
		}
	}
	t.Logf("%v, killed %v: given %d values, arrived %d, written again %d; missing %d, counted as overtaken %d, refused %d, "+
		"dropped %d", span, kills, len(source.gave), len(arrived), twice, missing, counts["merged"], counts["refused"],
		counts["dropped"])
	// An answer that was on its way when the source was killed is nobody's.
	if lost := counts["merged"] + counts["refused"] + counts["dropped"] + kills["source"]; missing > lost {
		t.Errorf("%d values are missing, and %d are accounted for", missing, lost)
	}
}

// TestBrokerBackEmpty: a broker that was killed and comes back without what was retained
// is told the value again, though the source stands still.
func TestBrokerBackEmpty(t *testing.T) {
	for name, up := range map[string]site.Crossing{"one way": {}, "both ways": {Both: site.LaterTies},
		"with quality": {Tells: site.TellsQuality}} {
		t.Run(name, func(t *testing.T) {
			source, target := newCounted(t), newCounted(t)
			source.value = 41
			brokerPort := freePort(t)
			path := killedSite(t, source, target, brokerPort, up)
			broker := newBroker(t, brokerPort)
			defer func() { _ = broker.Close() }()
			run := exec.Command(binary(t), "run", path, "--plant", "--release", "--data", t.TempDir(), "--watch",
				"127.0.0.1:"+strconv.Itoa(freePort(t)))
			if err := run.Start(); err != nil {
				t.Fatal(err)
			}
			defer func() { _, _ = run.Process.Kill(), run.Wait() }()
			for _, down := range []time.Duration{0, 300 * time.Millisecond, 5 * time.Second, 0} {
				eventually(t, "the value at the broker", func() bool {
					said, err := peerOutput("mosquitto_sub", "-h", "127.0.0.1", "-p", strconv.Itoa(brokerPort), "-t", "skerry/count",
						"-C", "1", "-W", "2")
					return err == nil && said == "41"
				})
				if err := broker.Close(); err != nil {
					t.Fatal(err)
				}
				time.Sleep(down)
				broker = newBroker(t, brokerPort)
			}
		})
	}
}
